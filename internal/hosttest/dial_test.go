package hosttest

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/connection"
	"yellowlantern/internal/hosts"
)

// dial connects a laptop as somebody, in the background.
func (g *installed) dial(vantage, user string, more ...string) {
	g.t.Helper()
	args := append([]string{yl, "dial", "up", "--background", "--name", vantage, "--password-file", g.file(user)}, more...)
	g.on(hosts.Laptop(vantage), append(args, g.kit(user))...)
}

func (g *installed) hangUp(vantage string) {
	g.t.Helper()
	g.on(hosts.Laptop(vantage), yl, "dial", "down", vantage)
}

// connected is how a laptop's only connection is.
func (g *installed) connected(vantage string) connection.State {
	g.t.Helper()
	out, _ := g.Run(g.t.Context(), hosts.Laptop(vantage), yl, "--json", "dial", "status")
	var all []connection.State
	require.NoError(g.t, json.Unmarshal([]byte(out), &all), "%s", out)
	require.Len(g.t, all, 1)
	return all[0]
}

// fetch fetches a page with the system's own tool and resolver.
func (g *installed) fetch(host, url string) (string, error) {
	return g.Run(g.t.Context(), host, "curl", "-sS", "--max-time", "4", url)
}

func (g *installed) pings(host, to string) bool {
	_, err := g.Run(g.t.Context(), host, "ping", "-c", "1", "-W", "2", to)
	return err == nil
}

// A laptop connects, and its own ping, curl and resolver reach what they should and nothing else; a full tunnel is seen from the gateway's
// address; afterwards everything is as it was, also after a kill.
func TestDial(t *testing.T) {
	const wardens = "  - name: wardens        # all their traffic comes home\n"
	g := install(t, "d1", wardens, wardens+"    strict: true\n")
	home := hosts.Laptop("home")
	traces := func() string {
		return g.on(home, "sh", "-c", "ip -o link; ip -o addr; ip rule; ip -6 rule; ip route show table all; ip -6 route show table all; cat /etc/resolv.conf; nft list ruleset")
	}
	before := traces()
	require.False(t, g.pings(home, "10.20.30.5"), "before")

	g.dial("home", "rory.researcher")
	require.True(t, g.pings(home, "10.20.30.5"))
	require.True(t, g.pings(home, "fd00:20:30::5"))
	// That host learns here what fits the tunnel.
	_, _ = g.Run(t.Context(), home, "ping", "-c", "1", "-W", "1", "-s", "1400", "fd00:20:30::5")
	for _, to := range []string{"10.20.30.5", "fd00:20:30::5"} {
		for _, size := range []string{"1400", "1473", "4000", "20000"} { // in parts, there and back
			out, err := g.Run(t.Context(), home, "ping", "-c", "2", "-i", "0.2", "-W", "2", "-s", size, to)
			require.NoError(t, err, "%s octets to %s: %s", size, to, out)
			require.Contains(t, out, " 0% packet loss")
		}
	}
	page, err := g.fetch(home, "http://records.tern.example/")
	require.NoError(t, err)
	require.Regexp(t, `^records of Tern Island, asked by (10\.99\.0\.|fd00:99::)`, page, "exempt: inside sees who it was")
	page, err = g.fetch(home, "http://records/")
	require.NoError(t, err, "by the search domain")
	require.Contains(t, page, "records of Tern Island")
	_, err = g.fetch(home, "http://10.20.0.20/")
	require.Error(t, err, "no rule lets researchers into the office")
	page, err = g.fetch(home, "http://198.51.100.80/")
	require.NoError(t, err)
	require.Equal(t, "203.0.113.45\n", page, "a split tunnel leaves the internet alone")
	require.True(t, g.pings(home, "192.168.77.1"), "the home network is reached as before")
	s := g.connected("home")
	require.True(t, s.Up)
	require.Eventually(t, func() bool { return g.connected("home").Came.Packets > 0 }, 5*time.Second, 100*time.Millisecond)

	// A second connection of that name leaves the first alone; another installation of the same person, on a machine of the same name, too.
	up := []string{
		yl, "dial", "up", "--background", "--name", "home", "--password-file", g.file("rory.researcher"), g.kit("rory.researcher"),
	}
	_, err = g.Run(t.Context(), home, up...)
	require.ErrorContains(t, err, fmt.Sprintf("connection home is up already, as process %d", s.PID))
	require.Equal(t, s.PID, g.connected("home").PID)
	require.True(t, g.pings(home, "10.20.30.5"))
	require.Contains(t, g.on(home, yl, "dial", "status"), "home: connected")
	other := hosts.Laptop("mobile")
	out, err := g.Run(t.Context(), other, append([]string{"env", "STATE_DIRECTORY=" + t.TempDir()}, up...)...)
	require.NoError(t, err, out)
	require.Len(t, g.sessions(), 2)
	require.True(t, g.pings(home, "10.20.30.5") && g.pings(other, "10.20.30.5"), "both go on")
	g.on(other, yl, "dial", "down", "home")

	// The help desk opens something towards the laptop, from its own address.
	listener, err := g.Start(t.Context(), home, "python3", "-c", "import socketserver\n"+
		"class H(socketserver.BaseRequestHandler):\n def handle(s): s.request.sendall(s.client_address[0].encode())\n"+
		"socketserver.TCPServer(('', 5900), H).serve_forever()")
	require.NoError(t, err)
	var seen string
	require.Eventually(t, func() bool {
		seen, err = g.Run(t.Context(), "office", "python3", "-c",
			"import socket; print(socket.create_connection(('"+s.Given[0].String()+"', 5900), 3).recv(99).decode())")
		return err == nil
	}, 10*time.Second, 100*time.Millisecond)
	require.Equal(t, "10.20.0.20\n", seen)
	_, err = g.Run(t.Context(), "boathouse", "python3", "-c",
		"import socket; print(socket.create_connection(('"+s.Given[0].String()+"', 5900), 2).recv(99).decode())")
	require.Error(t, err, "nobody else may")
	_ = listener.Process.Kill()

	g.hangUp("home")
	require.Equal(t, before, traces(), "as it was")

	// From now on a kit of that name is taken only if the same authority signed it.
	signer := filepath.Join(g.folder, "rory.researcher.signer")
	signed, err := os.ReadFile(signer)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(signer, []byte(strings.Repeat("AB:", 31)+"AB\n"), 0o600))
	_, err = g.Run(t.Context(), home, yl, "dial", "up", "--background", "--name", "home", "--password-file", g.file("rory.researcher"),
		filepath.Join(g.folder, "rory.researcher.kit"))
	require.ErrorContains(t, err, "signed by another authority")
	require.ErrorContains(t, err, strings.TrimSpace(string(signed)))
	require.Equal(t, before, traces(), "nothing was done")
	require.NoError(t, os.Remove(signer))

	g.dial("home", "wanda.warden") // strict, as the plan demands
	page, err = g.fetch(home, "http://198.51.100.80/")
	require.NoError(t, err)
	require.Equal(t, "192.0.2.10\n", page, "a full tunnel leaves by the gateway")
	page, err = g.fetch(home, "http://[2001:db8:80::80]/")
	require.NoError(t, err)
	require.Equal(t, "2001:db8:10::10\n", page)

	// The gateway is killed and comes again: nothing leaves in clear meanwhile, and the laptop comes again by itself.
	_ = g.run.Process.Kill()
	_ = g.run.Wait()
	require.Eventually(t, func() bool { return !g.connected("home").Up }, time.Minute, 500*time.Millisecond)
	_, err = g.fetch(home, "http://198.51.100.80/")
	require.Error(t, err, "strict: nothing leaves in clear")
	g.start()
	require.Eventually(t, func() bool { return g.connected("home").Up }, time.Minute, 200*time.Millisecond)
	page, err = g.fetch(home, "http://198.51.100.80/")
	require.NoError(t, err)
	require.Equal(t, "192.0.2.10\n", page)

	// Another address at home: the session goes on, and so does what is open.
	stood := g.sessions()
	require.Len(t, stood, 1)
	over, err := g.Downloading(t.Context(), home, "http://10.20.30.5/slow/1000")
	require.NoError(t, err)
	g.on(home, "sh", "-c", "ip addr del 192.168.77.10/24 dev home; ip addr add 192.168.77.99/24 dev home;"+
		"ip route replace default via 192.168.77.1")
	_, err = over()
	if err != nil {
		t.Log(g.on(home, yl, "dial", "logs", "home"), g.on(home, yl, "dial", "status"))
	}
	require.NoError(t, err, "a download goes on")
	require.Equal(t, stood[0].ID, g.sessions()[0].ID)
	require.Contains(t, g.on(home, yl, "dial", "logs", "home"), "the session goes on")
	page, err = g.fetch(home, "http://198.51.100.80/")
	require.NoError(t, err)
	require.Equal(t, "192.0.2.10\n", page)
	g.on(home, "sh", "-c", "ip addr del 192.168.77.99/24 dev home; ip addr add 192.168.77.10/24 dev home;"+
		"ip route replace default via 192.168.77.1")

	// A kill leaves rules and names, and the next command takes them away.
	require.Eventually(t, func() bool { return g.connected("home").Up }, time.Minute, 200*time.Millisecond)
	p, err := os.FindProcess(g.connected("home").PID)
	require.NoError(t, err)
	require.NoError(t, p.Kill())
	time.Sleep(200 * time.Millisecond)
	require.NotEqual(t, before, traces())
	g.hangUp("home")
	require.ElementsMatch(t, strings.Split(before, "\n"), strings.Split(traces(), "\n"), "as it was")
}

// Where UDP is dropped the laptop connects over TCP, and where little fits large packets arrive whole.
func TestDialFromBadPlaces(t *testing.T) {
	g := install(t, "d2")
	for _, vantage := range []string{"hotel", "mobile"} {
		g.dial(vantage, "both.birdwatcher")
		page, err := g.fetch(hosts.Laptop(vantage), "http://nestcams.tern.example/large/300")
		require.NoError(t, err, vantage)
		require.Len(t, page, 300_000, vantage)
		require.Equal(t, map[string]string{"hotel": "TCP", "mobile": "UDP"}[vantage], g.connected(vantage).Over)
		g.hangUp(vantage)
	}

	// A laptop sleeps (its program is stopped for as long, which looks alike to it), is seen at another address of its provider's when it
	// wakes, and is connected again at once.
	mobile := hosts.Laptop("mobile")
	g.dial("mobile", "both.birdwatcher")
	pid := g.connected("mobile").PID
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	g.on(hosts.Home("mobile"), "sh", "-c", "ip addr add 203.0.113.78/32 dev internet; ip addr del 203.0.113.77/32 dev internet;"+
		"ip route replace default dev internet; conntrack -F")
	time.Sleep(12 * time.Second)
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	soon(t, "it is connected again", func() bool { return g.pings(mobile, "10.20.30.5") })
	soon(t, "and says why it was not", func() bool {
		return strings.Contains(g.on(mobile, yl, "dial", "logs", "mobile"), "this machine slept")
	})
	require.Len(t, g.sessions(), 1, "the session from before is over")

	// It crashes, and comes again: what was left of it ends at once, it has its address again, and another device of the same person stays.
	g.dial("home", "both.birdwatcher")
	before := g.connected("mobile").Given
	require.NoError(t, syscall.Kill(g.connected("mobile").PID, syscall.SIGKILL))
	require.Len(t, g.sessions(), 2)
	g.dial("mobile", "both.birdwatcher")
	require.Equal(t, before, g.connected("mobile").Given)
	require.Len(t, g.sessions(), 2)
	require.True(t, g.pings(mobile, "10.20.30.5"))
	require.True(t, g.pings(hosts.Laptop("home"), "10.20.30.5"))
	said := g.yl("journal", "--code", "came-again")
	require.Contains(t, said, "both.birdwatcher")
	g.hangUp("mobile")
	g.hangUp("home")

	// A gateway that assigns more than the kit permits: what is beyond it is not used, and said.
	var kit map[string]any
	path := g.kit("both.birdwatcher")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	unsigned, _, _ := strings.Cut(string(text), "-----BEGIN CMS")
	require.NoError(t, json.Unmarshal([]byte(unsigned), &kit))
	kit["format"] = 2 // as versions wrote it that did not sign
	require.NoError(t, os.Remove(strings.TrimSuffix(path, ".kit")+".signer"))
	require.NotEmpty(t, kit["permitted"])
	kit["permitted"], kit["domains"], kit["dns"] = []string{"10.20.30.5/32"}, []string{}, []string{}
	text, err = json.Marshal(kit)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, text, 0o600))
	resolving := g.on(mobile, "cat", "/etc/resolv.conf")
	out := g.on(mobile, yl, "dial", "up", "--background", "--name", "mobile", "--password-file", g.file("both.birdwatcher"), path)
	require.Regexp(t, `not used +routes: 10\.20\.`, out)
	require.Regexp(t, `not used +DNS servers: 10\.20\.0\.53`, out)
	require.Regexp(t, `not used +domains: "tern\.example"`, out)
	require.Equal(t, resolving, g.on(mobile, "cat", "/etc/resolv.conf"))
	require.True(t, g.pings(mobile, "10.20.30.5"))
	require.NotContains(t, g.on(mobile, "ip", "route", "get", "10.20.30.6"), "dev yl-")
	g.hangUp("mobile")

	// Or an address of the network that the laptop is on.
	lease := before[0].String()
	g.on(mobile, "ip", "addr", "add", lease+"/24", "dev", "lo")
	_, err = g.Run(t.Context(), mobile, yl, "dial", "up", "--background", "--name", "mobile", "--password-file", g.file("both.birdwatcher"),
		path)
	require.ErrorContains(t, err, "and this host is on 10.99.0.0/24 itself")
	g.on(mobile, "ip", "addr", "del", lease+"/24", "dev", "lo")
}
