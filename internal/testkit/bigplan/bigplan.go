// Package bigplan generates large plans for benchmarks: overlapping prefixes, people in several groups, a tenth of the
// rules refusals, translations. The same size gives the same plan.
package bigplan

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

// Size says how large. Base is the size that the figures are stated for.
type Size struct{ Groups, Destinations, Rules, Users int }

// Base is 200 groups, 500 destinations, 2,000 rules, and three users for each group.
var Base = Size{200, 500, 2000, 600}

// Times makes a size larger.
func (s Size) Times(n int) Size {
	return Size{s.Groups * n, s.Destinations * n, s.Rules * n, s.Users * n}
}

// Make generates a plan and its people.
func Make(s Size) (*plan.Plan, []reach.Person) {
	r := rand.New(rand.NewPCG(1, uint64(s.Rules)))
	p := &plan.Plan{Format: 1, Name: "generated"}
	g := plan.Gateway{Name: "gw", Dial: "gw.tern.example", Internet: true}
	g.Outside.Addresses = []netip.Addr{netip.MustParseAddr("192.0.2.10")}
	networks, hosts := s.Destinations/5, s.Destinations*4/5
	p.Routers = []plan.Router{{
		Name: "core", Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.2")},
		Routes: []plan.Route{{To: netip.MustParsePrefix("0.0.0.0/0"), Via: netip.MustParseAddr("10.0.0.1")}},
	}}
	address := func(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, byte(1 + i/200), byte(i % 200), 0}) }
	for i := range networks {
		n := plan.Network{Name: fmt.Sprintf("net%d", i), Router: "core"}
		switch {
		case i == 0:
			n.Router = "gw"
			n.Prefixes = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}
			g.Inside = []plan.Attachment{{Network: n.Name, Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.1")}}}
		case i%5 == 4: // lies inside its neighbour
			n.Prefixes = []netip.Prefix{netip.PrefixFrom(address(i-1), 26)}
		default:
			n.Prefixes = []netip.Prefix{netip.PrefixFrom(address(i), 24)}
		}
		if i > 0 {
			p.Routers[0].Addresses = append(p.Routers[0].Addresses, n.Prefixes[0].Addr().Next())
			g.Routes = append(g.Routes, plan.Route{To: n.Prefixes[0], Via: netip.MustParseAddr("10.0.0.2")})
		}
		p.Networks = append(p.Networks, n)
	}
	for i := range hosts {
		b := p.Networks[i%networks].Prefixes[0].Addr().As4()
		b[3] = byte(3 + i/networks)
		p.Hosts = append(p.Hosts, plan.Host{Name: fmt.Sprintf("host%d", i), Addresses: []netip.Addr{netip.AddrFrom4(b)}})
	}
	destination := func() string {
		if n := r.IntN(networks + hosts); n < networks {
			return p.Networks[n].Name
		} else {
			return p.Hosts[n-networks].Name
		}
	}
	pools := max(1, s.Groups/4)
	for i := range pools {
		p.Pools = append(p.Pools, plan.Pool{
			Name:     fmt.Sprintf("pool%d", i),
			Prefixes: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{172, byte(20 + i/250), byte(i % 250), 0}), 24)},
		})
		if i%3 == 0 {
			p.NAT = append(p.NAT, plan.Translation{
				Name: fmt.Sprintf("hide%d", i), Gateway: "gw", Action: plan.Translate,
				From: []string{p.Pools[i].Name}, To: []string{destination(), destination()},
			})
		}
	}
	p.Tunnels = []plan.Tunnel{{
		Name: "main", Kind: plan.KindIKEv2, Gateway: "gw", Login: plan.LoginMSCHAPv2,
		Certificate: "gate", Own: &plan.IKEv2{Algorithms: &plan.Algorithms{Level: algorithm.Strict}},
	}}
	for i := range s.Groups {
		name := fmt.Sprintf("group%d", i)
		p.Groups = append(p.Groups, plan.Group{Name: name})
		p.Passages = append(p.Passages, plan.Passage{
			Name: fmt.Sprintf("way%d", i), Groups: []string{name}, Tunnels: []string{"main"},
			Pool: p.Pools[i%pools].Name, Routes: plan.Routes{Full: true},
		})
	}
	services := []string{"tcp/80", "tcp/443", "udp/53", "ping", "tcp/1000-2000", "tcp/445", "any"}
	for i := range s.Rules {
		rule := plan.Rule{
			Name: fmt.Sprintf("rule%d", i), Action: plan.Permit, Groups: []string{p.Groups[r.IntN(s.Groups)].Name},
			To: []string{destination(), destination()}, Services: []string{services[r.IntN(len(services))]},
		}
		if i%10 == 0 {
			rule.Action = plan.Refuse
		}
		p.Rules = append(p.Rules, rule)
		if i%10 == 1 {
			p.Expectations = append(p.Expectations,
				plan.Expectation{
					Name: fmt.Sprintf("expect%d", i), Groups: rule.Groups, Must: plan.Reach, To: rule.To,
					Services: rule.Services,
				})
		}
	}
	p.Gateways = []plan.Gateway{g}
	people := make([]reach.Person, s.Users)
	for i := range people {
		people[i] = reach.Person{User: fmt.Sprintf("user%d", i), Groups: []string{p.Groups[i%s.Groups].Name}}
		for range r.IntN(3) {
			people[i].Groups = append(people[i].Groups, p.Groups[r.IntN(s.Groups)].Name)
		}
	}
	return p, people
}
