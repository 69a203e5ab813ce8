package check

import (
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// references finds names of what does not exist, and objects that nothing uses.
func (c *checker) references() {
	used := map[string]bool{}
	miss := func(path, kind, name string) {
		c.add(Stop, "missing-reference", path, "make "+kind+" "+name+", or name one that exists",
			"there is no %s %q: whatever depends on this does not work", kind, name)
	}
	ref := func(path, kind, name string, exists bool) {
		used[kind+" "+name] = true
		if !exists {
			miss(path, kind, name)
		}
	}
	dst := func(base string, words []string) {
		for i, w := range words {
			used["network "+w], used["host "+w] = true, true
			if _, ok := c.n.Destination(w); !ok {
				miss(at(base, i), "network or host", w)
			}
		}
	}
	services := func(base string, words []string) {
		for i, w := range words {
			used["service "+w] = true
			if _, ok := c.n.Service(w); !ok {
				c.add(Stop, "missing-reference", at(base, i), "make service "+w+", or write it as tcp/443, udp/53, ping or any",
					"there is no service %q", w)
			}
		}
	}
	groups := func(base string, words []string) {
		for i, w := range words {
			ref(at(base, i), "group", w, c.n.Groups[w] != nil)
		}
	}
	for _, g := range c.p.Gateways {
		for i, a := range g.Inside {
			ref(at("gateways/"+g.Name+"/inside", i)+"/network", "network", a.Network, c.n.Networks[a.Network] != nil)
		}
	}
	for _, n := range c.p.Networks {
		if n.Router != "" {
			ref("networks/"+n.Name+"/router", "router or gateway", n.Router, c.n.Routers[n.Router] != nil || c.n.Gateways[n.Router] != nil)
		}
	}
	for _, s := range c.p.Services {
		for i, port := range s.Ports {
			if _, err := netset.ParseServices(port); err != nil {
				c.add(Stop, "malformed-service", at("services/"+s.Name+"/ports", i), "write it as tcp/443, udp/6000-6010, ping, icmp/echo or proto/47", "%v", err)
			}
		}
	}
	for _, p := range c.p.Pools {
		if p.CarvedFrom != "" {
			ref("pools/"+p.Name+"/carved-from", "network", p.CarvedFrom, c.n.Networks[p.CarvedFrom] != nil)
		}
	}
	for _, t := range c.p.Tunnels {
		ref("tunnels/"+t.Name+"/gateway", "gateway", t.Gateway, c.n.Gateways[t.Gateway] != nil)
	}
	for _, p := range c.p.Passages {
		base := "passages/" + p.Name
		groups(base+"/groups", p.Groups)
		for i, t := range p.Tunnels {
			ref(at(base+"/tunnels", i), "tunnel", t, c.n.Tunnels[t] != nil)
		}
		ref(base+"/pool", "pool", p.Pool, c.n.Pools[p.Pool] != nil)
		dst(base+"/routes/split", p.Routes.Split)
	}
	for _, t := range c.p.NAT {
		base := "nat/" + t.Name
		ref(base+"/gateway", "gateway", t.Gateway, c.n.Gateways[t.Gateway] != nil)
		for i, w := range t.From {
			used["pool "+w] = true
			if _, ok := c.n.Source(w); !ok {
				miss(at(base+"/from", i), "pool", w)
			}
		}
		dst(base+"/to", t.To)
		if t.Out != "" && t.Out != plan.Internet {
			ref(base+"/out", "network", t.Out, c.n.Networks[t.Out] != nil)
		}
	}
	for _, r := range c.p.Rules {
		groups("rules/"+r.Name+"/groups", r.Groups)
		dst("rules/"+r.Name+"/to", r.To)
		services("rules/"+r.Name+"/services", r.Services)
	}
	users := map[string]bool{}
	for _, p := range c.People {
		users[p.User] = true
	}
	for _, e := range c.p.Expectations {
		base := "expectations/" + e.Name
		groups(base+"/groups", e.Groups)
		dst(base+"/to", e.To)
		services(base+"/services", e.Services)
		for i, u := range e.Users {
			ref(at(base+"/users", i), "user", u, users[u])
		}
	}
	idle := func(kind, list, name string) {
		if !used[kind+" "+name] {
			c.add(Note, "unused", list+"/"+name, "remove it, or use it", "nothing uses %s %s", kind, name)
			c.mend("remove", list+"/"+name, "")
		}
	}
	for _, o := range c.p.Services {
		idle("service", "services", o.Name)
	}
	for _, o := range c.p.Pools {
		idle("pool", "pools", o.Name)
	}
	for _, o := range c.p.Groups {
		idle("group", "groups", o.Name)
	}
	for _, o := range c.p.Tunnels {
		idle("tunnel", "tunnels", o.Name)
	}
}
