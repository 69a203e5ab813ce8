package bigplan

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

// Sound generates a large plan that can be committed: 200 groups, 500 destinations, 2,000 rules, 50 pools, 200 expectations, and users in
// one group each. The same number of users gives the same plan.
func Sound(users int) (*plan.Plan, []reach.Person) {
	const groups, networks, hosts, rules, pools = 200, 100, 400, 2000, 50
	r := rand.New(rand.NewPCG(7, 7))
	p := &plan.Plan{Format: 1, Name: "generated"}
	g := plan.Gateway{Name: "gw", Dial: "gw.tern.example"}
	g.Outside.Addresses = []netip.Addr{netip.MustParseAddr("192.0.2.10")}
	names := netip.MustParseAddr("10.0.0.53")
	g.Defaults = &plan.Defaults{
		Tunnels: []string{"main"}, DNS: plan.DNS{Servers: []netip.Addr{names}, Search: []string{"tern.example"}},
		Limits: plan.Limits{PerPerson: 2},
	}
	core := plan.Router{
		Name: "core", Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.2")},
		Routes: []plan.Route{{To: netip.MustParsePrefix("0.0.0.0/0"), Via: netip.MustParseAddr("10.0.0.1")}},
	}
	var places []string
	for i := range networks {
		n := plan.Network{
			Name: fmt.Sprintf("net%d", i), Router: "core",
			Prefixes: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 4, byte(i), 0}), 24)},
		}
		if i == 0 {
			n.Router, n.Prefixes = "gw", []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}
			g.Inside = []plan.Attachment{{Network: n.Name, Addresses: []netip.Addr{netip.MustParseAddr("10.0.0.1")}}}
		} else {
			core.Addresses = append(core.Addresses, n.Prefixes[0].Addr().Next())
			g.Routes = append(g.Routes, plan.Route{To: n.Prefixes[0], Via: core.Addresses[0]})
		}
		p.Networks, places = append(p.Networks, n), append(places, n.Name)
	}
	p.Hosts = []plan.Host{{Name: "names", Addresses: []netip.Addr{names}}}
	for i := range hosts {
		b := p.Networks[1+i%(networks-1)].Prefixes[0].Addr().As4()
		b[3] = byte(10 + i/(networks-1))
		h := plan.Host{Name: fmt.Sprintf("host%d", i), Addresses: []netip.Addr{netip.AddrFrom4(b)}}
		p.Hosts, places = append(p.Hosts, h), append(places, h.Name)
	}
	p.Gateways, p.Routers = []plan.Gateway{g}, []plan.Router{core}
	p.Services = []plan.Service{{Name: "web", Ports: []string{"tcp/80", "tcp/443"}}, {Name: "names", Ports: []string{"udp/53", "tcp/53"}}}
	for i := range pools {
		p.Pools = append(p.Pools, plan.Pool{
			Name:     fmt.Sprintf("pool%d", i),
			Prefixes: []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{172, 22, byte(4 * i), 0}), 22)},
		})
	}
	p.Tunnels = []plan.Tunnel{{
		Name: "main", Kind: plan.KindIKEv2, Gateway: "gw", Login: plan.LoginMSCHAPv2,
		Certificate: "gate", Own: &plan.IKEv2{Algorithms: &plan.Algorithms{Level: algorithm.Strict}},
	}}
	p.Rules = []plan.Rule{{Name: "names", Action: plan.Permit, To: []string{"names"}, Services: []string{"names"}}}
	services := []string{"web", "tcp/22", "ping", "tcp/1000-2000", "tcp/445"}
	for i := range groups {
		name := fmt.Sprintf("group%d", i)
		p.Groups = append(p.Groups, plan.Group{Name: name})
		split := []string{"names"}
		for k := range rules / groups {
			rule := plan.Rule{
				Name: fmt.Sprintf("rule%d-%d", i, k), Action: plan.Permit, Groups: []string{name},
				To: []string{places[1+r.IntN(len(places)-1)]}, Services: []string{services[r.IntN(len(services))]},
			}
			p.Rules = append(p.Rules, rule)
			if !slices.Contains(split, rule.To[0]) {
				split = append(split, rule.To[0])
			}
			if k == 0 {
				p.Expectations = append(p.Expectations,
					plan.Expectation{
						Name: fmt.Sprintf("expect%d", i), Groups: []string{name}, Must: plan.Reach, To: rule.To,
						Services: rule.Services,
					})
			}
		}
		p.Passages = append(p.Passages, plan.Passage{
			Name: fmt.Sprintf("way%d", i), Groups: []string{name}, Pool: p.Pools[i%pools].Name,
			Routes: plan.Routes{Split: split},
		})
	}
	p.Expectations = append(p.Expectations, plan.Expectation{
		Name: "nobody-has-telnet", Everyone: true, Must: plan.NotReach,
		To: []string{"net1"}, Services: []string{"tcp/23"},
	})
	people := make([]reach.Person, users)
	for i := range people {
		people[i] = reach.Person{User: fmt.Sprintf("user%05d", i), Groups: []string{p.Groups[i%groups].Name}}
	}
	return p, people
}

// Text writes a generated plan as a document, an object a line.
func Text(p *plan.Plan) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "format: %d\nname: %s\n", p.Format, p.Name)
	kinds, lists := plan.Objects(*p)
	for _, kind := range kinds {
		if lists[kind].Len() == 0 {
			continue
		}
		fmt.Fprintf(&b, "\n%s:\n", kind)
		for i := range lists[kind].Len() {
			value, err := json.Marshal(lists[kind].Index(i).Interface())
			if err != nil {
				return "", err
			}
			var fields map[string]any
			if err := json.Unmarshal(value, &fields); err != nil {
				return "", err
			}
			fmt.Fprintf(&b, "  - %s\n", plan.Flow(fields, reflect.TypeOf(lists[kind].Index(i).Interface())))
		}
	}
	return b.String(), nil
}
