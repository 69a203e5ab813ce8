package judge

import (
	"fmt"
	"net/netip"

	"pgregory.net/rapid"

	"yellowlantern/internal/core/plan"
)

// The generator draws from a small world in which prefixes overlap, nest and touch, so that every station has work.
var (
	worldPrefixes = []string{
		"10.0.0.0/24", "10.0.0.0/16", "10.0.1.0/25", "10.0.1.128/25", "10.0.2.0/30", "10.0.2.8/31", "198.51.100.0/28",
		"fd00:1::/64", "fd00:1:0:1::/64", "fd00:1::/48",
	}
	worldPools = []string{"10.99.0.0/29", "10.0.0.128/29", "10.99.0.8/30", "fd00:99::/125", "10.0.1.200/29"}
	worldHops  = []string{
		"10.0.0.1", "10.0.0.2", "10.0.0.3", "10.0.1.1", "10.0.1.129", "10.0.2.1", "fd00:1::1", "fd00:1::2",
		"fd00:1:0:1::1", "198.51.100.1", "10.0.0.77",
	}
	worldRoutes = append([]string{"0.0.0.0/0", "::/0", "10.99.0.0/24", "10.99.0.4/30", "fd00:99::/64"}, worldPrefixes...)
	worldPorts  = []string{
		"any", "tcp/80", "tcp/80-90", "udp/53", "udp", "ping", "icmp", "icmp/13", "icmpv6", "proto/47", "icmp/echo",
		"tcp",
	}
)

func pick[T any](t *rapid.T, list []T, what string) T { return rapid.SampledFrom(list).Draw(t, what) }

func some(t *rapid.T, list []string, most int, what string) []string {
	out := []string{}
	for range rapid.IntRange(0, most).Draw(t, what+" count") {
		w := pick(t, list, what)
		if !in(out, w) {
			out = append(out, w)
		}
	}
	return out
}

func likely(t *rapid.T, what string) bool { return rapid.IntRange(0, 9).Draw(t, what) < 8 }

func parsePrefixes(words []string) (out []netip.Prefix) {
	for _, w := range words {
		out = append(out, netip.MustParsePrefix(w))
	}
	return out
}

func parseAddrs(words []string) (out []netip.Addr) {
	for _, w := range words {
		out = append(out, netip.MustParseAddr(w))
	}
	return out
}

func parseRanges(words ...string) (out []plan.Range) {
	for _, w := range words {
		var r plan.Range
		if err := r.UnmarshalText([]byte(w)); err != nil {
			panic(err)
		}
		out = append(out, r)
	}
	return out
}

func routesOf(t *rapid.T, most int, what string) (out []plan.Route) {
	for range rapid.IntRange(0, most).Draw(t, what) {
		r := plan.Route{
			To:  netip.MustParsePrefix(pick(t, worldRoutes, what+" to")),
			Via: netip.MustParseAddr(pick(t, worldHops, what+" via")),
		}
		if r.To.Addr().Is4() == r.Via.Is4() {
			out = append(out, r)
		}
	}
	return out
}

// randomPlan draws a plan. Half of what it draws is sound, so that many packets arrive.
func randomPlan(t *rapid.T) *plan.Plan {
	p := &plan.Plan{Format: 1, Name: "random"}
	places := []string{"any", "internet", "10.0.0.0/8", "10.0.1.64/26", "fd00::/8", "198.51.100.3"}
	used := map[string]bool{}
	for i := range rapid.IntRange(1, 4).Draw(t, "networks") {
		n := plan.Network{Name: fmt.Sprintf("net%d", i), Router: pick(t, []string{"gw", "gw", "r0", "r1", "", "nobody"}, "router")}
		for _, w := range some(t, worldPrefixes, 2, "prefix") {
			if !used[w] {
				used[w] = true
				n.Prefixes = append(n.Prefixes, netip.MustParsePrefix(w))
			}
		}
		p.Networks = append(p.Networks, n)
		places = append(places, n.Name)
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "routers") {
		p.Routers = append(p.Routers, plan.Router{
			Name:      fmt.Sprintf("r%d", i),
			Addresses: parseAddrs(some(t, worldHops, 3, "router address")), Routes: routesOf(t, 3, "router route"),
		})
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "hosts") {
		h := plan.Host{
			Name:      fmt.Sprintf("host%d", i),
			Addresses: parseAddrs([]string{pick(t, []string{"10.0.0.9", "10.0.1.9", "fd00:1::9", "198.51.100.9", "203.0.113.9"}, "host")}),
		}
		if rapid.Bool().Draw(t, "row of hosts") {
			h.Ranges = parseRanges(pick(t, []string{"10.0.0.30-10.0.0.33", "fd00:1::30-fd00:1::33"}, "host range"))
		}
		p.Hosts = append(p.Hosts, h)
		places = append(places, h.Name)
	}
	p.Zones = []plan.Zone{{Name: "zone"}}
	for i := range p.Networks {
		if rapid.Bool().Draw(t, "in the zone") {
			p.Networks[i].Zone = "zone"
		}
	}
	p.HostGroups = []plan.HostGroup{
		{Name: "set", Members: append(some(t, places, 2, "member"), "10.0.0.20-10.0.1.70", "set")},
		{Name: "sets", Members: []string{"set", "fd00:1::8-fd00:1::20"}},
	}
	places = append(places, "zone", "set", "sets", "10.0.0.9-10.0.0.40")
	g := plan.Gateway{Name: "gw", Dial: "gw.example", Internet: rapid.Bool().Draw(t, "internet"), Routes: routesOf(t, 3, "gateway route")}
	g.Outside.Addresses = parseAddrs(pick(t, [][]string{{"192.0.2.10"}, {"192.0.2.10", "2001:db8::10"}}, "outside"))
	for i := range p.Networks {
		if likely(t, "attached") {
			g.Inside = append(g.Inside, plan.Attachment{
				Network:   p.Networks[i].Name,
				Addresses: parseAddrs(some(t, worldHops, 2, "gateway address")),
			})
		}
	}
	if rapid.IntRange(0, 2).Draw(t, "two links") == 0 {
		twoLinks(p, &g)
	}
	if rapid.IntRange(0, 2).Draw(t, "code page") == 0 {
		g.CodePage = &plan.CodePage{
			Name: "code.example", Addresses: parseAddrs(some(t, []string{"10.0.0.26", "10.0.1.66", "10.99.0.6", "fd00:1::9", "172.16.0.1"}, 3, "code page at")),
		}
	}
	p.Gateways = []plan.Gateway{g}
	p.Services = []plan.Service{
		{Name: "web", Ports: []string{"tcp/80"}, Includes: []string{"more", "web"}},
		{Name: "more", Ports: []string{"tcp/443"}},
	}
	p.Hours = []plan.Hours{
		{Name: "day", From: plan.Clock{Minutes: 8 * 60}, To: plan.Clock{Minutes: 18 * 60}},
		{Name: "nights", Days: []string{"sunday", "friday"}, From: plan.Clock{Minutes: 22 * 60}, To: plan.Clock{Minutes: 6 * 60}},
	}
	p.Tunnels = []plan.Tunnel{{Name: "main", Kind: "ikev2", Gateway: "gw"}, {Name: "off", Kind: "ikev2", Gateway: "gw", Off: true}}
	for i := range rapid.IntRange(1, 2).Draw(t, "pools") {
		pool := plan.Pool{Name: fmt.Sprintf("pool%d", i), Prefixes: parsePrefixes([]string{pick(t, worldPools, "pool prefix")})}
		if rapid.Bool().Draw(t, "second prefix") {
			pool.Prefixes = append(pool.Prefixes, netip.MustParsePrefix("fd00:99::/125"))
		}
		if rapid.IntRange(0, 3).Draw(t, "carved") == 0 {
			pool.CarvedFrom = p.Networks[0].Name
		}
		if rapid.IntRange(0, 3).Draw(t, "exclude") == 0 {
			pool.Exclude = parseRanges("10.99.0.2/31")
		}
		if rapid.IntRange(0, 3).Draw(t, "range") == 0 {
			pool.Ranges = parseRanges(pick(t, []string{"10.99.0.5-10.99.0.11", "fd00:99::3-fd00:99::a", "10.99.0.40"}, "pool range"))
		}
		p.Pools = append(p.Pools, pool)
	}
	groups := []string{"a", "b", "c"}
	for i := range rapid.IntRange(1, 3).Draw(t, "passages") {
		s := plan.Passage{
			Name: fmt.Sprintf("way%d", i), Groups: append(some(t, groups, 2, "passage group"), pick(t, groups, "passage group")), Tunnels: []string{pick(t, []string{"main", "main", "main", "off"}, "tunnel")},
			Pool: p.Pools[rapid.IntRange(0, len(p.Pools)-1).Draw(t, "pool")].Name, Off: !likely(t, "on"),
		}
		if s.Routes.Full = rapid.Bool().Draw(t, "full"); !s.Routes.Full {
			s.Routes.Split = append(some(t, places, 4, "split"), pick(t, []string{"any", "10.0.0.0/8", "internet"}, "split"))
		}
		if rapid.IntRange(0, 2).Draw(t, "defaults") == 0 {
			p.Gateways[0].Defaults = &plan.Defaults{
				Tunnels: []string{"main"}, Pool: "pool0",
				Routes: plan.Routes{Split: []string{"10.0.0.0/16", "set"}},
			}
			s.Tunnels, s.Pool, s.Routes = nil, "", plan.Routes{}
			if rapid.Bool().Draw(t, "nothing routed") {
				s.Routes.Split = []string{}
			}
		}
		s.Factor.Asked = rapid.Bool().Draw(t, "second factor")
		s.DNS.Servers = parseAddrs(some(t, []string{"10.0.0.9", "203.0.113.9", "fd00:1::9"}, 2, "name server"))
		if rapid.IntRange(0, 2).Draw(t, "home") == 0 {
			s.HomeNetworks = parsePrefixes(some(t, []string{"10.0.0.24/29", "10.0.0.8/30", "10.0.1.64/28", "10.0.0.40/29"}, 2,
				"home network"))
			if !s.Routes.Full && rapid.Bool().Draw(t, "parts of homes") {
				s.Routes.Split = append(some(t, []string{"10.0.0.26/31", "10.0.0.9", "10.0.0.40-10.0.0.44", "10.0.0.24/29", "10.0.1.66"}, 3,
					"part of a home"), "internet")
			}
		}
		p.Passages = append(p.Passages, s)
	}
	for i := range rapid.IntRange(0, 3).Draw(t, "nat") {
		e := plan.Translation{
			Name: fmt.Sprintf("nat%d", i), Gateway: "gw", Action: pick(t, []string{"exempt", "translate", "translate"}, "nat action"),
			From: some(t, append([]string{"pool0", "pool1", "10.99.0.0/30", "fd00:99::/126"}, places...), 2, "nat from"),
			To:   some(t, append([]string{"pool0", "pool1", "10.99.0.0/29"}, places...), 1, "nat to"),
			Out:  pick(t, append([]string{"", "", "internet"}, p.Networks[0].Name), "nat out"), Off: !likely(t, "nat on"),
		}
		if rapid.IntRange(0, 3).Draw(t, "given address") == 0 {
			e.Address = netip.MustParseAddr(pick(t, []string{"192.0.2.77", "10.0.0.1", "fd00:1::1", "192.0.2.10"}, "nat address"))
		}
		p.NAT = append(p.NAT, e)
	}
	if rapid.IntRange(0, 2).Draw(t, "let in from inside") == 0 {
		p.Rules = append(p.Rules, plan.Rule{Name: "help", Action: "permit", From: []string{"any"}, Services: []string{"any"}})
	}
	if rapid.IntRange(0, 2).Draw(t, "the gateway's machine") == 0 {
		p.Rules = append(p.Rules, plan.Rule{
			Name: "machine", Action: pick(t, []string{"permit", "permit", "refuse"}, "machine action"), To: []string{"gateway-itself"},
			Services: []string{pick(t, append(worldPorts, "web", "any"), "machine service")},
		})
	}
	for i := range rapid.IntRange(1, 6).Draw(t, "rules") {
		r := plan.Rule{
			Name: fmt.Sprintf("rule%d", i), Action: pick(t, []string{"permit", "permit", "permit", "refuse"}, "action"), Groups: some(t, groups, 1, "rule group"),
			To: append(some(t, places, 2, "rule to"), pick(t, places, "rule to")), Services: []string{pick(t, append(worldPorts, "web", "any"), "service")}, Off: !likely(t, "rule on"),
		}
		if rapid.IntRange(0, 2).Draw(t, "rule hours") == 0 {
			r.Hours = pick(t, []string{"day", "nights", "never heard of"}, "hours")
		}
		if rapid.IntRange(0, 2).Draw(t, "from inside") == 0 {
			r.From = r.To
			if rapid.IntRange(0, 3).Draw(t, "both ends") > 0 {
				r.To = nil
			}
		}
		p.Rules = append(p.Rules, r)
	}
	return p
}

// twoLinks puts the gateway on two networks, the second of which answers by way of a router on both: over the first.
func twoLinks(p *plan.Plan, g *plan.Gateway) {
	if len(p.Networks) < 2 || len(p.Networks[0].Prefixes) == 0 || len(p.Networks[1].Prefixes) == 0 {
		return
	}
	first, second := p.Networks[0].Prefixes[0].Masked().Addr(), p.Networks[1].Prefixes[0].Masked().Addr()
	all := "0.0.0.0/0"
	if first.Is6() {
		all = "::/0"
	}
	here := first.Next()
	p.Networks[1].Router = "both"
	p.Routers = append(p.Routers, plan.Router{
		Name: "both", Addresses: []netip.Addr{here.Next(), second.Next().Next()},
		Routes: []plan.Route{{To: netip.MustParsePrefix(all), Via: here}},
	})
	g.Inside = []plan.Attachment{
		{Network: p.Networks[0].Name, Addresses: []netip.Addr{here}},
		{Network: p.Networks[1].Name, Addresses: []netip.Addr{second.Next()}},
	}
}

// edges are the addresses at and next to every boundary of the plan, where mistakes live.
func edges(p *plan.Plan) []netip.Addr {
	out := parseAddrs(append([]string{
		"203.0.113.7", "8.8.8.8", "192.0.2.10", "192.0.2.77", "127.0.0.1", "224.0.0.1", "169.254.9.9",
		"255.255.255.255", "10.200.0.1", "100.64.0.1", "2001:db8:5::5", "fe80::1", "ff02::1", "::1", "fd77::1",
	}, worldHops...))
	add := func(prefixes []netip.Prefix) {
		for _, x := range prefixes {
			first := x.Masked().Addr()
			out = append(out, first, first.Next())
			if before := first.Prev(); before.IsValid() {
				out = append(out, before)
			}
			if x.Addr().Is4() {
				last := lastOf(x)
				out = append(out, last, last.Prev(), last.Next())
			}
		}
	}
	for _, n := range p.Networks {
		add(n.Prefixes)
	}
	for _, q := range p.Pools {
		add(q.Prefixes)
		for _, r := range q.Ranges {
			out = append(out, r.From, r.From.Prev(), r.To, r.To.Next())
		}
	}
	for _, h := range p.Hosts {
		out = append(out, h.Addresses...)
		for _, r := range h.Ranges {
			out = append(out, r.From, r.From.Prev(), r.To, r.To.Next())
		}
	}
	return append(out, parseAddrs([]string{
		"10.0.0.19", "10.0.0.20", "10.0.0.26", "10.0.0.9", "10.0.1.66", "10.0.0.40", "10.0.0.41",
		"10.0.1.70", "10.0.1.71", "fd00:1::8", "fd00:1::20", "fd00:1::21",
	})...)
}

func randomPacket(t *rapid.T, from []netip.Addr, dsts []netip.Addr) probePacket {
	k := probePacket{dst: pick(t, dsts, "dst"), size: 100, hops: 64}
	k.src = pick(t, append(parseAddrs([]string{"10.99.0.6", "fd00:99::6"}), append(from, append(from, from...)...)...), "src")
	if k.src.Is4() != k.dst.Is4() {
		k.src = netip.MustParseAddr(map[bool]string{true: "10.99.0.6", false: "fd00:99::6"}[k.dst.Is4()])
		for _, a := range from {
			if a.Is4() == k.dst.Is4() {
				k.src = a
			}
		}
	}
	if rapid.IntRange(0, 19).Draw(t, "own services") == 0 { // or next to them
		k.dst = pick(t, parseAddrs([]string{"255.255.255.255", "255.255.255.254", "ff02::2", "ff02::1"}), "asks")
		k.src = pick(t, append(parseAddrs([]string{"fe80::7", "::", "10.99.0.6", "0.0.0.0"}), append(from, from...)...), "asker")
		if k.src.Is4() != k.dst.Is4() {
			k.src = netip.MustParseAddr(map[bool]string{true: "10.99.0.6", false: "fe80::7"}[k.dst.Is4()])
		}
		if k.proto, k.port = 17, pick(t, []int{67, 67, 68}, "port"); k.dst.Is6() {
			k.proto, k.kind, k.port = 58, pick(t, []int{133, 133, 134}, "type"), 0
		}
		return k
	}
	switch k.proto = pick(t, []int{6, 6, 17, 1, 58, 47}, "proto"); k.proto {
	case 6, 17:
		k.port, k.flags = pick(t, []int{0, 53, 79, 80, 81, 90, 91, 443, 65535}, "port"), 2
	case 1:
		k.kind = pick(t, []int{8, 8, 0, 13, 5}, "type")
	case 58:
		k.kind = pick(t, []int{128, 128, 129, 135}, "type")
	}
	switch rapid.IntRange(0, 30).Draw(t, "odd") {
	case 0:
		k.size = 1501
		k.keep = k.dst.Is4() && rapid.Bool().Draw(t, "not to be cut")
	case 1:
		k.hops = 1
	case 2:
		k.fragment, k.size = true, pick(t, []int{100, 1501, 4000, 65535}, "in parts")
	case 3:
		k.size = 1450
		k.keep = k.dst.Is4() && rapid.Bool().Draw(t, "not to be cut")
	}
	return k
}
