package hosttest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// A machine that has one link for the internet and for its inside network, as a hosted server has.
func TestOneLinkForBoth(t *testing.T) {
	g := install(t, "o1")
	g.stop()
	// The island's own network and the internet become one wire, on which the gateway has one link.
	for _, args := range [][]string{
		{"link", "add", "seam-a", "type", "veth", "peer", "name", "seam-b"},
		{"link", "set", "seam-a", "master", "station", "up"},
		{"link", "set", "seam-b", "master", "internet", "up"},
	} {
		g.on("wires", append([]string{"ip"}, args...)...)
	}
	g.on(hosts.Gateway, "sh", "-c", "ip link del internet; ip addr add 192.0.2.10/32 dev station; ip addr add 2001:db8:10::10/128 dev station nodad;"+
		"ip route add default dev station; ip -6 route add default dev station")
	_, err := g.Run(t.Context(), hosts.Gateway, "ip", "link", "add", "link", "station", "name", "v9", "type", "vlan", "id", "9")
	if err != nil {
		t.Log("a VLAN link was not tried: this kernel has none")
	} else {
		g.on(hosts.Gateway, "ip", "link", "del", "v9")
		t.Log("a VLAN link was not tried: it is like any other")
	}
	g.before = g.traces()
	g.start()
	for _, vantage := range []string{"home", "mobile", "hotel", "ipv6-only"} { // no provider carries private addresses
		g.on(hosts.Home(vantage), "sh", "-c", "ip route add unreachable 10.20.0.0/16; ip -6 route add unreachable fd00:20::/32")
	}
	for user, vantage := range map[string]string{
		"rory.researcher": "home", "wanda.warden": "mobile", "vera.volunteer": "hotel", "both.birdwatcher": "ipv6-only",
	} {
		r := g.probed(user, vantage)
		require.True(t, r.OK, "%s from %s: %d missed, %d differ", user, vantage, r.Missed, r.Differs)
	}
	home := hosts.Laptop("home")
	g.dial("home", "wanda.warden")
	page, err := g.fetch(home, "http://198.51.100.80/")
	require.NoError(t, err)
	require.Equal(t, "192.0.2.10\n", page, "to the internet by the link by which they came")
	page, err = g.fetch(home, "http://10.20.30.5/")
	require.NoError(t, err)
	require.Contains(t, page, "asked by 10.99.0.", "and exempt towards what is inside, by the same link")
	g.hangUp("home")
	g.dial("home", "rory.researcher")
	require.True(t, g.pings("office", g.connected("home").Given[0].String()), "what is opened from inside")
	g.hangUp("home")
	g.stop()
	require.Equal(t, g.before, g.traces(), "nothing is left")
}

// A gateway whose outside is IPv6 alone, with an address and a way out that it learns from a router's advertisements, late after boot.
func TestOutsideIsLearnt(t *testing.T) {
	g := install(t, "o2", `addresses: [192.0.2.10, "2001:db8:10::10"]`, `addresses: ["2001:db8:10::10"]`,
		"must: reach, to: [198.51.100.80]", `must: reach, to: ["2001:db8:80::80"]`)
	g.stop()
	g.on(hosts.Gateway, "sh", "-c", "ip link del internet")
	g.on("wires", "sh", "-c", "ip link add late type veth peer name internet netns "+g.Namespace(hosts.Gateway)+
		"; ip link set late master internet up")
	g.on(hosts.Gateway, "sh", "-c", "sysctl -q -w net.ipv6.conf.internet.accept_ra=1; ip link set internet up; ip token set ::10 dev internet")
	g.before = g.traces()
	g.start()
	soon(t, "it says what is missing", func() bool {
		return strings.Contains(g.status(), "2001:db8:10::10")
	})
	// The provider's router begins to advertise only now.
	g.on("mirror", "sh", "-c", "sysctl -q -w net.ipv6.conf.all.forwarding=1; ip addr add 2001:db8:10::1/64 dev internet nodad")
	_, err := g.Start(t.Context(), "mirror", "dnsmasq", "-k", "-p", "0", "-C", "/dev/null", "--enable-ra",
		"--dhcp-range=2001:db8:10::,ra-only,64,600", "--ra-param=internet,4", "-i", "internet", "--pid-file=", "-l", g.folder+"/leases", "--user=root")
	require.NoError(t, err)
	soon(t, "the address is there, and the way out", func() bool {
		return strings.Contains(g.on(hosts.Gateway, "ip", "-6", "addr", "show", "dev", "internet"), "2001:db8:10::10/64") &&
			strings.Contains(g.on(hosts.Gateway, "ip", "-6", "route"), "default via fe80")
	})
	soon(t, "and nothing is missing any longer", func() bool {
		out, _ := g.ask("host", "preview", "--changes")
		return strings.Contains(out, "All of it is there already")
	})
	laptop := hosts.Laptop("ipv6-only")
	g.dial("ipv6-only", "rory.researcher")
	require.True(t, g.pings(laptop, "10.20.30.5"))
	require.True(t, g.pings(laptop, "fd00:20:30::5"))
	g.hangUp("ipv6-only")

	// Who begins to forward loses what was learnt, unless it is told first that it goes on learning.
	g.stop()
	require.Contains(t, g.on(hosts.Gateway, "ip", "-6", "route"), "default via fe80")
	var seen strings.Builder
	watch := g.Command(t.Context(), hosts.Gateway, "ip", "-6", "monitor", "route")
	watch.Stdout = &seen
	require.NoError(t, watch.Start())
	g.start()
	g.dial("ipv6-only", "rory.researcher")
	require.True(t, g.pings(laptop, "10.20.30.5"))
	_ = watch.Process.Kill()
	_ = watch.Wait()
	require.NotContains(t, seen.String(), "Deleted default", "the way out was there all the time")
	require.Contains(t, seen.String(), "fd00:99::/112", "it was watched")
}
