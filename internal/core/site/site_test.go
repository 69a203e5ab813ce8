package site_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/island"
)

// Each way for a packet to be lost on Tern Island, with the station and the setting that decide and the words for it.
func TestJourneys(t *testing.T) {
	ridge := []string{"{to: 0.0.0.0/0, via: 10.20.0.1}"}
	cases := []struct {
		name                   string
		change                 []string
		groups, dst, service   string
		station, setting, says string
		enforced               bool
	}{
		{"gets there", nil, "researchers", "10.20.30.5", "tcp/80", "", "", "", true},
		{"gets there by IPv6", nil, "researchers", "fd00:20:30::5", "tcp/443", "", "", "", true},
		{"to the internet, translated", nil, "wardens", "198.51.100.80", "tcp/80", "", "", "", true},
		{"to the gateway itself", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]"}, "wardens", "10.20.0.1", "ping", "", "", "", true},
		{"the gateway offers nothing else", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]"}, "wardens", "10.20.0.1", "tcp/22", "rules", "rules", "no rule to gateway-itself permits tcp/22", false},
		{"the gateway offers what a rule says", []string{"to: [station, archive], services: [web, files, ping]", "to: [gateway-itself], services: [tcp/22]"}, "wardens", "10.20.0.1", "tcp/22", "", "", "", true},
		{"not admitted", nil, "campers", "10.20.30.5", "tcp/80", "admission", "passages", "no passage admits campers", false},
		{"not routed by the device", nil, "volunteers", "10.20.30.5", "tcp/80", "device", "passages/volunteers/routes", "does not send it into the tunnel", false},
		{"no address of the family", nil, "volunteers", "fd00:20:30::5", "tcp/80", "device", "pools/guests", "no address of this family", false},
		{"no rule", nil, "researchers", "10.20.30.5", "tcp/22", "rules", "rules", "no rule permits tcp/22 to records (10.20.30.5) for researchers", false},
		{"refused", nil, "wardens", "10.20.40.10", "tcp/502", "rules", "rules/hands-off-the-turbine", "refuses tcp/502", false},
		{"an answer opens nothing", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]"}, "wardens", "10.20.0.20", "icmp/0", "rules", "rules", "cannot open a flow", false},
		{"a broadcast", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]"}, "wardens", "10.20.0.255", "udp/9", "route", "gateways/jetty/inside", "never routed", false},
		{"another person", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]"}, "wardens", "10.99.1.7", "tcp/22", "route", "pools", "one person does not reach another", false},
		{"no route", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]", "    internet: true\n", ""}, "wardens", "10.77.0.1", "tcp/80", "route", "gateways/jetty/routes", "no route", false},
		{"private, to the internet", []string{"to: [station, archive], services: [web, files, ping]", "to: [any], services: [any]"}, "wardens", "10.77.0.1", "tcp/80", "onward", "networks", "does not carry", true},
		{"translation without an address", []string{`addresses: [192.0.2.10, "2001:db8:10::10"]`, "addresses: [192.0.2.10]"}, "wardens", "2001:db8:80::80", "tcp/80", "translation", "nat/way-out", "no address of this family", false},
		{"next hop of nobody", []string{"- {to: 10.20.30.0/24, via: 10.20.0.2}", "- {to: 10.20.30.0/24, via: 10.20.0.7}"}, "researchers", "10.20.30.5", "tcp/80", "onward", "routers", "belongs to no router", true},
		{"the router does not know it", []string{`10.20.30.1, "fd00:20:30::1", `, ""}, "researchers", "10.20.30.5", "tcp/80", "onward", "routers", "leads back to the gateway", true},
		{"no way back", append(ridge, "{to: 10.20.0.0/24, via: 10.20.0.1}"), "researchers", "10.20.30.5", "tcp/80", "return", "routers/ridge/routes", "no route back to 10.99.0.1", true},
		{"the way back leads elsewhere", append(ridge, "{to: 0.0.0.0/0, via: 10.20.0.9}"), "researchers", "10.20.30.5", "tcp/80", "return", "routers/ridge/routes/0", "no router of the plan", true},
		{"no router at all", []string{"    prefixes: [10.20.30.0/24, \"fd00:20:30::/64\"]\n    router: ridge", "    prefixes: [10.20.30.0/24, \"fd00:20:30::/64\"]"}, "researchers", "10.20.30.5", "tcp/80", "return", "networks/archive/router", "has no router", true},
		{"no translation on the way out", []string{"from: [staff, station, archive]}", "from: [staff], out: station}"}, "wardens", "198.51.100.80", "tcp/80", "return", "nat", "no way back", true},
		{"a pool among neighbours", []string{"[10.99.0.0/24,", "[10.20.0.128/25,"}, "researchers", "10.20.0.53", "udp/53", "return", "networks/station", "looks like a neighbour", true},
		{"a pool that is carved out", []string{"{name: staff, prefixes: [10.99.0.0/24,", "{name: staff, carved-from: station, prefixes: [10.20.0.128/25,"}, "researchers", "10.20.30.5", "tcp/80", "", "", "", true},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			m := island.Model(t, c.change...)
			class := m.Class([]string{c.groups})
			dst := netip.MustParseAddr(c.dst)
			set, err := netset.ParseServices(c.service)
			require.NoError(t, err)
			p := site.Packet{Dst: dst, Service: set[0].From}
			leased := netset.Addrs{}
			if class.Passage != nil {
				for _, s := range class.Passage.Pool {
					if s.From.Is4() == dst.Is4() {
						p.Src, leased = s.From, netset.OfAddrs(s.From)
					}
				}
				if !p.Src.IsValid() {
					p.Src, leased = netip.IPv6Unspecified(), netset.OfAddrs(netip.IPv6Unspecified())
				}
			}
			j := m.Travel(class, p, leased, site.When{})
			lost := j.LostAt()
			require.Equal(t, c.enforced, j.Enforced, "%+v", j.Steps)
			if c.station == "" {
				require.Nil(t, lost, "%+v", lost)
				require.True(t, j.Arrives)
				require.Equal(t, site.State, j.Steps[len(j.Steps)-1].Station)
				return
			}
			require.NotNil(t, lost)
			require.Equal(t, c.station, lost.Station, "%+v", lost)
			require.Equal(t, c.setting, lost.Setting)
			require.Contains(t, lost.Words, c.says)
			require.False(t, j.Arrives)
		})
	}
}

// Routers that pass a packet round are noticed, there and back.
func TestLoops(t *testing.T) {
	m := island.Model(t, "{to: 0.0.0.0/0, via: 10.20.0.1}", "{to: 0.0.0.0/0, via: 10.20.0.3}", "hosts:\n", "  - name: spit\n    addresses: [10.20.0.3]\n    routes:\n      - {to: 0.0.0.0/0, via: 10.20.0.2}\n\nhosts:\n",
		"- {to: 10.20.40.0/24, via: 10.20.0.2}", "- {to: 10.20.40.0/24, via: 10.20.0.2}\n      - {to: 10.50.0.0/24, via: 10.20.0.2}")
	class := m.Class([]string{"researchers"})
	p := site.Packet{
		Src: netip.MustParseAddr("10.99.0.1"), Dst: netip.MustParseAddr("10.20.30.5"),
		Service: netset.PortPoint(netset.TCP, 80),
	}
	lost := m.Travel(class, p, netset.OfAddrs(p.Src), site.When{})
	require.Contains(t, lost.LostAt().Words, "in a loop")
	p.Dst = netip.MustParseAddr("10.50.0.1")
	out, v := m.Route(p)
	require.True(t, v.OK)
	require.Contains(t, m.Carry(p, out).Words, "in a loop")
}

// A way may have any number of routers, there as back; only one that comes a second time makes a loop.
func TestLongChains(t *testing.T) {
	var routers strings.Builder
	const chain = 40
	for i := range chain {
		on, back := fmt.Sprintf("10.20.0.%d", 102+i), fmt.Sprintf("10.20.0.%d", 102+i)
		if i == chain-1 {
			on, back = "10.20.0.2", "10.20.0.1"
		}
		fmt.Fprintf(&routers,
			"  - name: hop-%d\n    addresses: [10.20.0.%d]\n    routes:\n      - {to: 10.20.30.0/24, via: %s}\n      - {to: 0.0.0.0/0, via: %s}\n",
			i, 101+i, on, back)
	}
	m := island.Model(t, "{to: 0.0.0.0/0, via: 10.20.0.1}", "{to: 0.0.0.0/0, via: 10.20.0.101}",
		"hosts:\n", routers.String()+"\nhosts:\n", "- {to: 10.20.30.0/24, via: 10.20.0.2}", "- {to: 10.20.30.0/24, via: 10.20.0.101}")
	p := site.Packet{
		Src: netip.MustParseAddr("10.99.0.1"), Dst: netip.MustParseAddr("10.20.30.5"), Service: netset.PortPoint(netset.TCP, 80),
	}
	j := m.Travel(m.Class([]string{"researchers"}), p, netset.OfAddrs(p.Src), site.When{})
	require.True(t, j.Arrives, "%+v", j.LostAt())
	require.True(t, m.ReturnSet(p.Src).Contains(p.Dst))
}

// What a translation hides behind an address that nobody leads to the gateway is the translation's fault, not the network's.
func TestTranslatedToAStranger(t *testing.T) {
	m := island.Model(t, "nat:\n",
		"nat:\n  - {name: stranger, gateway: jetty, action: translate, address: 10.20.0.77, from: [staff], to: [station]}\n")
	p := site.Packet{
		Src: netip.MustParseAddr("10.99.0.1"), Dst: netip.MustParseAddr("10.20.0.53"), Service: netset.PortPoint(netset.UDP, 53),
	}
	lost := m.Travel(m.Class([]string{"researchers"}), p, netset.OfAddrs(p.Src), site.When{})
	require.Equal(t, "nat/stranger/address", lost.LostAt().Setting)
	require.Contains(t, lost.LostAt().Words, "10.20.0.77, which is no address of gateway jetty")
}

func TestPassageIsTheFirstThatAdmits(t *testing.T) {
	m := island.Model(t)
	for groups, want := range map[string]string{
		"researchers volunteers": "research", "volunteers researchers": "research",
		"volunteers": "volunteers", "turbine-contractor wardens": "wardens",
	} {
		require.Equal(t, want, m.Class(strings.Fields(groups)).Passage.Name)
	}
	off := island.Model(t, "  - name: research\n    groups: [researchers]", "  - name: research\n    off: true\n    groups: [researchers]")
	require.Equal(t, "volunteers", off.Class([]string{"researchers", "volunteers"}).Passage.Name)
	require.Nil(t, off.Class([]string{"researchers"}).Passage)
	_, err := site.Compile(off.Plan, "elsewhere")
	require.ErrorContains(t, err, "it has jetty")
}

// The gateway's own ICMP answers find their way like any other packet.
func TestRouteOfOwnAnswers(t *testing.T) {
	m := island.Model(t)
	for dst, want := range map[string]site.Egress{
		"10.20.0.20": {Network: "station"}, "10.20.30.5": {Network: "station", NextHop: netip.MustParseAddr("10.20.0.2")}, "198.51.100.80": {Network: plan.Internet},
	} {
		out, ok := m.RouteOf(packet.EchoRequest(netip.MustParseAddr("10.20.0.1"), netip.MustParseAddr(dst), []byte{0, 1, 0, 1}))
		require.True(t, ok)
		require.Equal(t, want, out)
	}
	_, ok := m.RouteOf([]byte("no packet"))
	require.False(t, ok)
}
