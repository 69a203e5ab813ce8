package connection

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/dial"
)

func prefixes(all ...string) (out []netip.Prefix) {
	for _, p := range all {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func addrs(all ...string) (out []netip.Addr) {
	for _, a := range all {
		out = append(out, netip.MustParseAddr(a))
	}
	return out
}

func assigned(change func(*tunnel.Configuration)) dial.Given {
	c := tunnel.Configuration{
		Addresses: addrs("10.99.0.7", "fd00:99::7"), DNS: addrs("10.20.0.53"), Domains: []string{"tern.example"},
		Routes: netset.OfPrefixes(prefixes("10.20.0.0/16", "fd00:20::/32")...),
	}
	change(&c)
	return dial.Given{Configuration: c}
}

var (
	home   = prefixes("192.168.1.0/24", "2001:db8:1::/64")
	permit = Permit{Routes: prefixes("10.20.0.0/16", "fd00:20::/32"), DNS: addrs("198.51.100.53"), Domains: []string{"tern.example"}}
)

// Whatever a gateway assigns: this host keeps its own network, and does what its kit permits.
func TestAssignments(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*tunnel.Configuration)
		fails  string
	}{
		{"too many addresses", func(c *tunnel.Configuration) {
			for i := range 2003 {
				c.Addresses = append(c.Addresses, netip.AddrFrom4([4]byte{10, 99, byte(i >> 8), byte(i)}))
			}
		}, "assigned 2005 addresses"},
		{"none", func(c *tunnel.Configuration) { c.Addresses = nil }, "assigned 0 addresses"},
		{"this host's network", func(c *tunnel.Configuration) { c.Addresses[0] = netip.MustParseAddr("192.168.1.20") }, "is on 192.168.1.0/24 itself"},
		{"its IPv6", func(c *tunnel.Configuration) { c.Addresses[1] = netip.MustParseAddr("2001:db8:1::1") }, "this host is on"},
		{"loopback", func(c *tunnel.Configuration) { c.Addresses[0] = netip.MustParseAddr("127.0.0.1") }, "no unicast address"},
		{"loopback by IPv6", func(c *tunnel.Configuration) { c.Addresses[1] = netip.MustParseAddr("::1") }, "no unicast address"},
		{"multicast", func(c *tunnel.Configuration) { c.Addresses[0] = netip.MustParseAddr("224.0.0.1") }, "no unicast address"},
		{"mapped", func(c *tunnel.Configuration) { c.Addresses[1] = netip.MustParseAddr("::ffff:192.168.1.20") }, "no unicast address"},
		{"link-local", func(c *tunnel.Configuration) { c.Addresses[1] = netip.MustParseAddr("fe80::1") }, "no unicast address"},
		{"nothing", func(c *tunnel.Configuration) { c.Addresses[1] = netip.MustParseAddr("::") }, "no unicast address"},
		{"everything as a prefix", func(c *tunnel.Configuration) { c.Prefixes = prefixes("::/0") }, "wider than /48"},
		{"somebody's prefix", func(c *tunnel.Configuration) { c.Prefixes = prefixes("2001:db8:1::/64") }, "none of the addresses"},
		{"its prefix", func(c *tunnel.Configuration) { c.Prefixes = prefixes("fd00:99::/64") }, ""},
	} {
		_, _, err := accept(assigned(c.change), permit, home, 1)
		if c.fails == "" {
			require.NoError(t, err, c.name)
		} else {
			require.ErrorContains(t, err, c.fails, c.name)
		}
	}

	evil := []string{
		"~.", "--help", "-h", "example.com", "tern.example\nnameserver 203.0.113.9", "xtern.example", "", ".", "a..tern.example", "~tern.example",
	}
	g := assigned(func(c *tunnel.Configuration) {
		c.Routes = netset.OfPrefixes(prefixes("10.20.30.0/24", "192.168.1.128/25", "203.0.113.80/32", "10.21.0.0/16")...)
		c.DNS = addrs("10.20.0.53", "127.0.0.1", "192.168.1.1", "198.51.100.53", "ff02::1", "203.0.113.53")
		c.Domains = append(append([]string{}, evil...), "Tern.Example", "records.tern.example")
	})
	got, left, err := accept(g, permit, home, 1)
	require.NoError(t, err)
	require.Equal(t, prefixes("10.20.30.0/24"), got.Routes.Prefixes())
	require.Equal(t, addrs("198.51.100.53"), got.DNS, "10.20.0.53 would be asked outside of the tunnel")
	require.Equal(t, []string{"Tern.Example", "records.tern.example"}, got.Domains)
	require.Len(t, left, 3)
	require.Contains(t, left[0], "192.168.1.128/25")
	require.NotContains(t, fmt.Sprint(left), "\n", "in quotes")

	got, _, err = accept(g, Permit{Any: true}, home, 1)
	require.NoError(t, err)
	require.Equal(t, []string{"example.com", "xtern.example", "Tern.Example", "records.tern.example"}, got.Domains, "an older kit: names")
	require.Len(t, got.Routes.Prefixes(), 4)

	everything := assigned(func(c *tunnel.Configuration) { c.Full, c.Routes = true, netset.Everywhere })
	got, left, err = accept(everything, permit, home, 1)
	require.NoError(t, err)
	require.False(t, got.Full, "the kit is of a split tunnel")
	require.Equal(t, permit.Routes, got.Routes.Prefixes())
	require.NotEmpty(t, left)
	got, left, err = accept(everything, Permit{Full: true, Domains: permit.Domains}, home, 1)
	require.NoError(t, err)
	require.True(t, got.Full)
	require.Empty(t, left)
	many := assigned(func(c *tunnel.Configuration) {
		for i := range 5000 {
			a := netip.AddrFrom4([4]byte{11, byte(i >> 7), byte(i << 1), 0})
			c.Routes = append(c.Routes, netset.PrefixSpan(netip.PrefixFrom(a, 32)))
		}
		for range 2000 {
			c.DNS = append(c.DNS, c.DNS[0])
		}
	})
	_, _, err = accept(many, Permit{Any: true}, home, 1)
	require.ErrorContains(t, err, "routes, and at most")
	many.Routes = permit.routes(many)
	got, _, err = accept(many, permit, home, 1)
	require.NoError(t, err)
	require.Len(t, got.DNS, mostDNS)
}

// Only what the tunnel is for comes by it: from what goes into it, to the addresses that were assigned.
func TestInbound(t *testing.T) {
	near := map[bool][]netip.Prefix{true: home, false: append(prefixes("10.20.99.0/24", "10.0.0.0/8"), home...)}
	g := assigned(func(c *tunnel.Configuration) { c.Prefixes = prefixes("fd00:99::/64") })
	udp := func(from, to string) []byte {
		src, dst := netip.MustParseAddr(from), netip.MustParseAddr(to)
		b := packet.Message(src, dst, make([]byte, 16))
		if src.Is4() {
			b[9] = netset.UDP
		} else {
			b[6] = netset.UDP
		}
		return b
	}
	failed := func(from, to string, about []byte) []byte { // a router says that something does not get there
		kind := byte(3)
		if netip.MustParseAddr(from).Is6() {
			kind = 1
		}
		return packet.Message(netip.MustParseAddr(from), netip.MustParseAddr(to), append([]byte{kind, 1, 0, 0, 0, 0, 0, 0}, about...))
	}
	for _, c := range []struct {
		name  string
		b     []byte
		split bool // whether it may come
		full  bool
	}{
		{"from the site", udp("10.20.30.5", "10.99.0.7"), true, true},
		{"by IPv6", udp("fd00:20:30::5", "fd00:99::7"), true, true},
		{"to a host behind", udp("fd00:20:30::5", "fd00:99::80"), true, true},
		{"to the network behind", udp("10.20.30.5", "192.168.77.9"), false, false},
		{"to another device", udp("10.20.30.5", "10.99.0.8"), false, false},
		{"to multicast", udp("10.20.30.5", "224.0.0.251"), false, false},
		{"to all nodes", udp("fe80::1", "ff02::1"), false, false},
		{"from elsewhere", udp("203.0.113.80", "10.99.0.7"), false, true},
		{"from the own network", udp("192.168.1.1", "10.99.0.7"), false, false},
		{"from a network that is nearer than the route", udp("10.20.99.5", "10.99.0.7"), false, true},
		{"from loopback", udp("127.0.0.1", "10.99.0.7"), false, false},
		{"from loopback by IPv6", udp("::1", "fd00:99::7"), false, false},
		{"from itself", udp("10.99.0.7", "10.99.0.7"), false, false},
		{"from multicast", udp("224.0.0.1", "10.99.0.7"), false, false},
		{"an error of a router", failed("203.0.113.1", "10.99.0.7", udp("10.99.0.7", "10.20.30.5")), true, true},
		{"by IPv6", failed("2001:db8:ff::1", "fd00:99::7", udp("fd00:99::7", "fd00:20:30::5")), true, true},
		{"about what never went there", failed("203.0.113.1", "10.99.0.7", udp("10.99.0.7", "192.168.1.1")), false, true},
		{"about somebody else's", failed("203.0.113.1", "10.99.0.7", udp("10.99.0.8", "10.20.30.5")), false, true},
		{"from loopback about a flow", failed("127.0.0.1", "10.99.0.7", udp("10.99.0.7", "10.20.30.5")), false, false},
		{"cut", udp("10.20.30.5", "10.99.0.7")[:19], false, false},
		{"nothing", nil, false, false},
	} {
		for _, full := range []bool{false, true} {
			g.Full = full
			in := inboundOf(g, near[full])
			want := map[bool]int{true: 1}[map[bool]bool{false: c.split, true: c.full}[full]]
			good, refused := in.packets([][]byte{c.b})
			require.Equal(t, want, len(good), "%s, full %v", c.name, full)
			require.Equal(t, 1-want, refused)
			// Behind one that may come, and behind an error by the same router, it fares the same.
			before := failed("203.0.113.1", "10.99.0.7", udp("10.99.0.7", "10.20.30.5"))
			good, _ = in.packets([][]byte{udp("10.20.30.5", "10.99.0.7"), before, c.b, c.b})
			require.Len(t, good, 2+2*want, "%s, full %v", c.name, full)
		}
	}
}

// What looking at packets costs: a batch of one flow, and one in which each is another's.
func BenchmarkInbound(b *testing.B) {
	in := inboundOf(assigned(func(*tunnel.Configuration) {}), home)
	for name, each := range map[string]int{"one flow": 0, "many": 1} {
		batch := make([][]byte, 44)
		for i := range batch {
			from := netip.AddrFrom4([4]byte{10, 20, 30, byte(5 + i*each)})
			batch[i] = packet.Message(from, netip.MustParseAddr("10.99.0.7"), make([]byte, 1300))
		}
		b.Run(name, func(b *testing.B) {
			for range b.N {
				in.packets(batch)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(batch)), "ns/packet")
		})
	}
}
