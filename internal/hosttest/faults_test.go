package hosttest

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/cli"
	"yellowlantern/internal/hosts"
)

// soon waits for what must come about by itself within the time that is promised: ten seconds, and a little for the machine.
func soon(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 15*time.Second, 200*time.Millisecond, what)
}

// Whatever somebody's hand does to the machine is seen, told and mended within seconds, for the plan says so; and people's packets flow
// again without their doing.
func TestDriftIsMended(t *testing.T) {
	g := install(t, "f1")
	home := hosts.Laptop("home")
	g.dial("home", "rory.researcher")
	for _, c := range []struct{ name, by, told string }{
		{"the device is deleted", "ip link del yl0", "device (yl0 is gone)"},
		{"our table is flushed", "nft flush table inet yellow-lantern", "chain arriving has 0 of its 2"},
		{"another tool reloads everything", "nft flush ruleset", "rules (table inet yellow-lantern is gone)"},
		{"a rule of ours is deleted", "nft flush chain inet yellow-lantern to-people", "rules (chain to-people has 0 of its"},
		{"our route is deleted", "ip route del 10.99.0.0/24 dev yl0", "routes (10.99.0.0/24 is missing)"},
		{"forwarding is switched off", "sysctl -q -w net.ipv4.conf.station.forwarding=0", "net.ipv4.conf.station.forwarding is 0 in place of 1"},
		{"a link goes down and comes back", "ip link set station down; sleep 1; ip link set station up; ip addr add fd00:20::1/64 dev station", ""},
	} {
		lines := g.yl("journal", "--code", "drift-mended", "--limit", "100")
		g.on(hosts.Gateway, "sh", "-c", c.by)
		soon(t, c.name, func() bool { return g.pings(home, "10.20.30.5") && g.pings(home, "fd00:20:30::5") })
		if c.told != "" {
			soon(t, c.name, func() bool {
				now := g.yl("journal", "--code", "drift-mended", "--limit", "100")
				return strings.Count(now, "\n") > strings.Count(lines, "\n") &&
					strings.Contains(strings.Join(strings.Fields(now), " "), c.told)
			})
		}
		require.Contains(t, g.on(hosts.Gateway, "ip", "route"), "10.20.30.0/24 via 10.20.0.2", c.name)
		soon(t, c.name+": the table is whole", func() bool {
			return strings.Contains(g.on(hosts.Gateway, "nft", "list", "ruleset"), "does not lead to where it says it is from")
		})
	}
	require.Contains(t, g.yl("journal", "--code", "link-down"), "link station, which leads to station, is down")
	require.Contains(t, g.yl("journal", "--code", "link-up"), "link station, which leads to station, is up again")
}

// Where the plan only wants to be told, nothing is touched, and the status is not right until it is as it was.
func TestDriftIsTold(t *testing.T) {
	g := install(t, "f2", "machine: {settings: set, drift: mend}", "machine: {settings: set}")
	g.on(hosts.Gateway, "nft", "flush", "chain", "inet", "yellow-lantern", "leaving")
	soon(t, "it is told", func() bool { return strings.Contains(g.yl("journal", "--code", "drifted"), "rules") })
	out := g.status()
	require.Contains(t, out, "somebody changed rules (chain leaving has 0 of its ")
	g.commit(g.demo.Plan + "# again\n")
	out = g.status()
	require.NotContains(t, out, "by hand")
}

// What other tools of the machine do to packets does not reach people's: a masquerade for everybody leaves the exempt alone. Who says that
// it is from inside and comes from outside is not believed. What a session had is nobody's afterwards.
func TestOthersOnTheMachine(t *testing.T) {
	g := install(t, "f3")
	home := hosts.Laptop("home")
	g.on(hosts.Gateway, "nft", "add table ip others; add chain ip others post { type nat hook postrouting priority 100; }; add rule ip others post masquerade")
	g.dial("home", "rory.researcher")
	page, err := g.fetch(home, "http://10.20.30.5/")
	require.NoError(t, err)
	require.Contains(t, page, "asked by 10.99.0.1")

	// A packet from the internet that says it is from the help desk.
	person := g.connected("home").Given[0].String()
	require.Equal(t, "10.99.0.1", person)
	g.on("mirror", "sh", "-c", "ip addr add 10.20.0.20/32 dev lo; ip route add 10.99.0.0/24 via 192.0.2.10 dev internet onlink")
	dropped := func() string {
		return g.on(hosts.Gateway, "nft", "list", "chain", "inet", "yellow-lantern", "to-people")
	}
	require.Contains(t, dropped(), "counter packets 0")
	_, err = g.Run(t.Context(), "mirror", "ping", "-c", "2", "-W", "1", "-I", "10.20.0.20", person)
	require.Error(t, err)
	require.Contains(t, dropped(), "counter packets 2", "by the link that does not lead to the office")
	var access cli.Access
	b, err := os.ReadFile(g.in("access.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &access))
	metrics := func() string {
		return g.on(hosts.Gateway, "curl", "-s", "-H", "Authorization: Bearer "+access.Token, access.URL+"/api/v1/metrics")
	}
	require.Contains(t, metrics(), `yellow_lantern_machine_rules_lost_total{chain="to-people",gateway="jetty"} 2`)
	require.Regexp(t, `yellow_lantern_link_packets_total\{direction="received",gateway="jetty",link="internet"\} [1-9]`, metrics())
	require.Regexp(t, `yellow_lantern_link_up\{gateway="jetty",link="yl0"\} 1`, metrics())
	require.Contains(t, metrics(), `yellow_lantern_events_waiting{gateway="jetty"} 0`)
	g.commit(g.demo.Plan + "# again\n") // which makes another table
	g.on(hosts.Gateway, "nft", "flush", "chain", "inet", "yellow-lantern", "lasting")
	soon(t, "counters go on", func() bool {
		return strings.Contains(metrics(), `yellow_lantern_machine_rules_lost_total{chain="to-people",gateway="jetty"} 2`)
	})
	require.True(t, g.pings("office", person), "the office itself is believed")

	require.Contains(t, g.on(hosts.Gateway, "conntrack", "-L"), "10.99.0.1")
	g.hangUp("home")
	soon(t, "its connections are forgotten", func() bool {
		return !strings.Contains(g.on(hosts.Gateway, "conntrack", "-L"), "10.99.0.1")
	})
}

// A commit during a download lets it go on where it takes nothing away, gives it another source where it translates otherwise, and stops
// it where it takes the reach away.
func TestCommitDuringADownload(t *testing.T) {
	g := install(t, "f4")
	home := hosts.Laptop("home")
	g.dial("home", "rory.researcher")
	begin := func(kilobytes string) func() (int64, error) {
		end, err := g.Downloading(t.Context(), home, "http://10.20.30.5/slow/"+kilobytes)
		require.NoError(t, err)
		return end
	}
	end := begin("1000")
	g.commit(strings.Replace(g.demo.Plan, "name: Tern Island Observatory", "name: Tern Island", 1))
	size, err := end()
	require.NoError(t, err)
	require.EqualValues(t, 1_000_000, size)

	end = begin("20000")
	g.commit(strings.ReplaceAll(g.demo.Plan, "to: [records, nestcams]", "to: [nestcams]"))
	_, err = end()
	require.Error(t, err, "the download stops when its reach is taken away")
	_, err = g.fetch(home, "http://10.20.30.5/")
	require.Error(t, err)

	g.commit(strings.Replace(g.demo.Plan, "from: [staff, guests, station, archive, turbine], to: [station",
		"from: [guests, station, archive, turbine], to: [station", 1))
	page, err := g.fetch(home, "http://10.20.30.5/")
	require.NoError(t, err)
	require.Contains(t, page, "asked by 10.20.0.1", "exempt no longer")
	require.Contains(t, g.yl("flows"), "10.20.0.1:", "flows show what the kernel made of it")
}

// People whose addresses lie on the station's own network are found by their neighbours there, and by nobody once they are gone.
func TestCarvedOnAHost(t *testing.T) {
	g := install(t, "f5", `{name: staff, prefixes: [10.99.0.0/24, "fd00:99::/112"]}`,
		`{name: staff, carved-from: station, prefixes: [10.20.0.128/26, "fd00:20::9:0/112"]}`)
	g.dial("home", "rory.researcher")
	person := g.connected("home").Given
	require.Len(t, person, 2)
	for _, a := range person {
		if a.Is4() {
			require.True(t, g.pings("office", a.String()))
		}
		require.Contains(t, g.on(hosts.Gateway, "ip", "neigh", "show", "proxy")+g.on(hosts.Gateway, "ip", "-6", "neigh", "show",
			"proxy"), a.String())
	}
	require.True(t, g.pings(hosts.Laptop("home"), "10.20.0.53"))
	require.True(t, g.pings(hosts.Laptop("home"), "fd00:20::53"))
	g.hangUp("home")

	// Somebody has taken the addresses meanwhile, by hand: others are leased, and it is told who has them.
	for _, a := range person {
		length := "/24"
		if a.Is6() {
			length = "/64"
		}
		g.on("office", "ip", "addr", "add", a.String()+length, "dev", "station", "nodad")
	}
	g.dial("home", "rory.researcher")
	for _, a := range g.connected("home").Given {
		require.NotContains(t, person, a)
	}
	require.True(t, g.pings(hosts.Laptop("home"), "10.20.0.53"))
	said := g.yl("journal", "--kind", "machine")
	for _, a := range person {
		require.Contains(t, strings.Join(strings.Fields(said), " "), a.String()+" of pool staff is not leased for now")
	}
	g.hangUp("home")
	soon(t, "nobody answers for it", func() bool {
		return !strings.Contains(g.on(hosts.Gateway, "ip", "neigh", "show", "proxy"), "10.20.0.1")
	})
}

// People use the gateway's own machine where a rule says so, and no address of it otherwise, planned or not.
func TestGatewayItself(t *testing.T) {
	g := install(t, "f6", "rules:\n", "rules:\n  - {name: machine, action: permit, groups: [researchers], to: [gateway-itself], services: [tcp/8080]}\n")
	home := hosts.Laptop("home")
	g.on(hosts.Gateway, "ip", "addr", "add", "10.20.0.99/24", "dev", "station") // which the plan does not know
	for _, port := range []string{"8080", "8081"} {
		_, err := g.Start(t.Context(), hosts.Gateway, "python3", "-m", "http.server", port, "--directory", "/usr/share/doc")
		require.NoError(t, err)
	}
	g.dial("home", "rory.researcher")
	soon(t, "its web server", func() bool { _, err := g.fetch(home, "http://10.20.0.1:8080/"); return err == nil })
	_, err := g.fetch(home, "http://10.20.0.1:8081/")
	require.Error(t, err, "no rule lets them")
	_, err = g.fetch(home, "http://10.20.0.99:8080/")
	require.Error(t, err, "an address that the plan does not know is the machine's all the same")
	require.True(t, g.pings(home, "10.20.0.53"))
}

// A machine whose addresses come late at boot, or change while it runs, is served as soon as they are there.
func TestAddressesComeAndGo(t *testing.T) {
	g := install(t, "f8")
	g.stop()
	g.on(hosts.Gateway, "sh", "-c", "ip addr flush dev station; ip addr flush dev internet; ip route flush dev internet")
	g.start()
	soon(t, "it says what is missing", func() bool {
		return strings.Contains(g.status(), "this machine has no link with 10.20.0.1")
	})
	g.on(hosts.Gateway, "sh", "-c", "ip addr add 10.20.0.1/24 dev station; ip addr add fd00:20::1/64 dev station; ip addr add 192.0.2.10/32 dev internet;"+
		"ip addr add 2001:db8:10::10/128 dev internet; ip route replace default dev internet")
	soon(t, "all is there", func() bool {
		out, _ := g.ask("host", "preview", "--changes")
		return strings.Contains(out, "All of it is there already")
	})
	home := hosts.Laptop("home")
	g.dial("home", "wanda.warden")
	require.True(t, g.pings(home, "10.20.30.5"))

	rules := func() string { return g.on(hosts.Gateway, "nft", "list", "chain", "inet", "yellow-lantern", "leaving") }
	g.on(hosts.Gateway, "sh", "-c", "ip addr del 192.0.2.10/32 dev internet; ip addr add 192.0.2.77/32 dev internet; ip route replace default dev internet")
	soon(t, "it translates to the address of today", func() bool { return strings.Contains(rules(), "snat ip to 192.0.2.77") })
	g.on(hosts.Gateway, "sh", "-c", "ip addr del 192.0.2.77/32 dev internet; ip addr add 192.0.2.10/32 dev internet; ip route replace default dev internet")
	soon(t, "and back", func() bool { return strings.Contains(rules(), "snat ip to 192.0.2.10") })
	soon(t, "the laptop goes on", func() bool {
		page, err := g.fetch(home, "http://198.51.100.80/")
		return err == nil && page == "192.0.2.10\n"
	})

	// A cable is out, and a plan can be committed nevertheless.
	g.on(hosts.Gateway, "ip", "link", "set", "station", "down")
	g.commit(g.demo.Plan + "# while the cable is out\n")
	require.Contains(t, g.status(), "link station, which leads to station, is down")
	require.NotContains(t, g.status(), "does not take a route", "what follows from that is not told besides")
	g.on(hosts.Gateway, "sh", "-c", "ip link set station up; ip addr replace fd00:20::1/64 dev station")
	soon(t, "it is in again", func() bool { return g.pings(home, "10.20.30.5") })
}

// Killed at whatever moment, either process or both, or the one that is both, also in the middle of a commit, the gateway comes back with a
// plan that was committed, and the machine is as that plan wants it, whatever was left. Nothing for people leaves by another way meanwhile.
// (make check kills a hundred times in either mode.)
func TestKilledAtRandom(t *testing.T) {
	for mode, apart := range map[string]bool{"two processes": true, "one process": false} {
		t.Run(mode, func(t *testing.T) { killedAtRandom(t, apart) })
	}
}

func killedAtRandom(t *testing.T, apart bool) {
	g := installAs(t, map[bool]string{true: "f7", false: "f8"}[apart], apart)
	times := 6
	if n, err := strconv.Atoi(os.Getenv("YL_KILLS")); err == nil {
		times = n
	}
	plans := []string{g.demo.Plan, strings.ReplaceAll(g.demo.Plan, "10.99.1.0/26", "10.99.2.0/26")}
	path, heads := filepath.Join(g.folder, "next.yaml"), ""
	unreachable := func() {
		out, err := g.Run(t.Context(), hosts.Gateway, "ip", "route", "get", "10.99.0.9")
		require.Error(t, err, "what is for people is unreachable meanwhile: %s", out)
	}
	for n := range times {
		heads += g.yl("journal", "head")
		require.NoError(t, os.WriteFile(path, []byte(plans[n%2]), 0o600))
		committing := make(chan struct{})
		go func() {
			defer close(committing)
			_, _ = g.ask("plan", "load", path)
			_, _ = g.ask("plan", "commit", "-m", "next", "--accept", "all", "--because", "trial")
		}()
		time.Sleep(time.Duration(rand.IntN(600)) * time.Millisecond)
		which := 1 + n%3
		if !apart || which&1 != 0 {
			g.kill(g.run)
		}
		switch {
		case !apart:
			unreachable()
		case which&2 != 0:
			g.kill(g.side)
			unreachable()
			require.NoError(t, os.Remove(g.in("run/gateway.sock")))
			g.startSide()
		}
		if !apart || which&1 != 0 {
			g.start()
		}
		<-committing
		require.Eventually(t, func() bool {
			out, err := g.ask("host", "preview")
			return err == nil && strings.Contains(out, "All of it is there already")
		}, 15*time.Second, 100*time.Millisecond, "kill %d", n)
		routes := g.on(hosts.Gateway, "ip", "route", "show", "proto", "221")
		require.NotEqual(t, strings.Contains(routes, "10.99.1.0/26"), strings.Contains(routes, "10.99.2.0/26"),
			"of one of both plans: %s", routes)
	}
	require.NoError(t, os.WriteFile(path, []byte(heads), 0o600))
	require.Contains(t, g.yl("journal", "verify", "--heads", path), fmt.Sprintf("held against %d heads", times),
		"no line was lost, or written twice")
	g.stop()
	if apart {
		require.NoError(t, g.side.Process.Signal(os.Interrupt))
		require.NoError(t, g.side.Wait())
	}
	require.Equal(t, g.before, g.traces())
}
