package check

import (
	"fmt"
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

// routes finds what the device sends to the wrong side.
func (c *checker) routes() {
	var full, split []string
	for i := range c.p.Passages {
		p := &c.p.Passages[i]
		if p.Off {
			continue
		}
		base := "passages/" + p.Name + "/routes"
		switch {
		case p.Routes.Full && len(p.Routes.Split) > 0:
			c.add(Stop, "full-and-split", base, "keep one of them", "passage %s says both full and split", p.Name)
			c.mend("set", base, "{full: true}")
		case !p.Routes.Full && len(p.Routes.Split) == 0:
			c.add(Stop, "split-empty", base, "list the networks, or say full: true",
				"passage %s sends nothing into the tunnel: its people connect and reach nothing", p.Name)
		}
		for k, word := range p.Routes.Split {
			path := at(base+"/split", k)
			if prefix, err := netip.ParsePrefix(word); err == nil && prefix != prefix.Masked() {
				c.add(Stop, "host-bits", path, "write "+prefix.Masked().String(), "%s has host bits set", prefix)
				c.mend("set", path, quote(prefix.Masked()))
			}
			dst, _ := c.n.Destination(word)
			if dst.Overlaps(typicalHomes) {
				c.add(Warn, "split-typical-home", path, "renumber it, or use a full tunnel",
					"%s is what many home routers use: at such a home this traffic never leaves the house", word)
			}
			c.routedForNothing(p, path, word, dst)
		}
		c.swallowed(p)
		c.neededRoutes(p, base)
		if p.Routes.Full {
			c.wayOut(p, base)
			full = append(full, p.Name)
		} else {
			split = append(split, p.Name)
		}
	}
	if len(full) > 0 {
		c.add(Note, "full-tunnel-load", "passages", "use split routes where people's own traffic need not come here", "all internet traffic of people of passages %s comes and goes by this site's line", quoted(full))
	}
	if len(split) > 0 {
		c.add(Note, "split-tunnel-exposure", "passages", "use a full tunnel where their devices must be shielded", "devices of people of passages %s are on the internet and inside at the same time", quoted(split))
	}
}

// routedForNothing finds a route to where no rule permits anything to anybody of the passage.
func (c *checker) routedForNothing(p *plan.Passage, path, word string, dst netset.Addrs) {
	concerned := false
	for n, class := range c.classes {
		if class.Passage == nil || class.Passage.Name != p.Name {
			continue
		}
		concerned = true
		if len(c.enforced[n].To(dst)) > 0 || len(reach.Everywhere(c.reaches[n].InEnforced).To(dst)) > 0 {
			return
		}
	}
	if concerned && len(dst) > 0 {
		c.add(Warn, "routed-for-nothing", path, "add a rule, or take the route out", "%s goes through the tunnel, but no rule permits anything there to people of passage %s", word, p.Name)
		c.mend("remove", path, "")
	}
}

// neededRoutes finds what rules permit and the split routes leave out.
func (c *checker) neededRoutes(p *plan.Passage, base string) {
	if p.Routes.Full || len(p.Routes.Split) == 0 {
		return
	}
	told := map[string]bool{}
	for n, class := range c.classes {
		if class.Passage == nil || class.Passage.Name != p.Name {
			continue
		}
		lacking := c.enforced[n].Destinations().Union(reach.Everywhere(c.reaches[n].InEnforced).Destinations()).
			Subtract(class.Passage.Routes).Intersect(c.n.InsideAddrs())
		for _, s := range lacking {
			place := c.nameOf(s.From)
			if told[place] {
				continue
			}
			told[place] = true
			if later := c.passedOver(p, class.Groups, s.From); later != "" {
				c.add(Stop, "needed-not-routed", base+"/split", "put passage "+later+" before passage "+p.Name+", or add "+place,
					"rules let %s and %s talk, but devices send it past the tunnel: passage %s, which does not route it, takes them before "+
						"passage %s, which does: the first that admits one of a person's groups counts", class.Name(), place, p.Name, later)
				c.mend("add", base+"/split", quote(place))
				continue
			}
			c.add(Stop, "needed-not-routed", base+"/split", "add "+place, "rules let %s and %s talk, but it is not among the split routes of passage %s: devices send it past the tunnel", class.Name(), place, p.Name)
			c.mend("add", base+"/split", quote(place))
		}
	}
}

// passedOver is a passage that routes an address and would admit somebody, if another did not stand before it; empty: there is none.
func (c *checker) passedOver(by *plan.Passage, groups []string, a netip.Addr) string {
	before := true
	for i := range c.p.Passages {
		p := &c.p.Passages[i]
		if p.Name == by.Name {
			before = false
		}
		admits := slices.ContainsFunc(p.Groups, func(g string) bool { return slices.Contains(groups, g) })
		if !before && p.Name != by.Name && !p.Off && admits && (p.Routes.Full || c.n.Destinations(p.Routes.Split).Contains(a)) {
			return p.Name
		}
	}
	return ""
}

// swallowed finds inside places that a home network of people hides from them.
func (c *checker) swallowed(p *plan.Passage) {
	routes := c.n.Destinations(p.Routes.Split)
	for k, home := range p.HomeNetworks {
		path := at("passages/"+p.Name+"/home-networks", k)
		if home != home.Masked() {
			c.add(Stop, "host-bits", path, "write "+home.Masked().String(), "%s has host bits set", home)
			c.mend("set", path, quote(home.Masked()))
		}
		at := netset.OfPrefixes(home)
		if hidden := at.Intersect(c.n.InsideAddrs()); len(hidden) > 0 && (p.Routes.Full || routes.Covers(at)) {
			c.add(Warn, "home-hides-inside", path, "route single hosts or smaller prefixes of it in place of the whole network, or renumber the inside network", "people of passage %s whose home network is %s do not get to %s: their devices look for it at home", p.Name, home, c.nameOf(hidden[0].From))
		}
	}
}

func (c *checker) wayOut(p *plan.Passage, base string) {
	if c.m == nil || !c.m.Gateway.Internet {
		c.add(Stop, "full-without-internet", base+"/full", "say internet: true at the gateway, or use split routes", "passage %s sends everything into the tunnel, but the gateway does not forward to the internet", p.Name)
		if c.m != nil {
			c.mend("set", "gateways/"+c.m.Gateway.Name+"/internet", "true")
		}
		return
	}
	for n, class := range c.classes {
		if class.Passage == nil || class.Passage.Name != p.Name {
			continue
		}
		if len(c.enforced[n].To(c.n.InternetAddrs())) == 0 {
			c.add(Stop, "full-without-rule", base+"/full", "add a rule that permits services to internet for "+class.Name(),
				"passage %s sends everything into the tunnel, but no rule permits %s anything on the internet", p.Name, class.Name())
		} else if len(c.full[n].To(c.n.InternetAddrs())) == 0 {
			c.add(Stop, "full-without-translation", base+"/full", "add under nat: {name: way-out, gateway: "+c.m.Gateway.Name+", action: translate, from: ["+p.Pool+"], to: [internet], out: internet}", "passage %s sends everything into the tunnel, but nothing translates it on the way out: no answer comes back from the internet", p.Name)
			c.mend("add", "nat", fmt.Sprintf("{name: %s, gateway: %s, action: translate, from: [%s], to: [internet], out: internet}", c.freeNAT("way-out-"+p.Pool), c.m.Gateway.Name, p.Pool))
		}
	}
	if pool := c.n.Pools[p.Pool]; pool != nil && !pool.Addresses().Overlaps(netset.All6) {
		c.add(Warn, "full-ipv4-only", base+"/full", "add an IPv6 prefix to pool "+p.Pool, "the tunnel carries IPv4 only: a device with IPv6 sends that past the tunnel")
	}
}

// nameOf is the most telling name for an address: host, network, or itself.
func (c *checker) nameOf(a netip.Addr) string {
	if h := c.n.HostAt(a); h != nil {
		return h.Name
	}
	if n := c.n.NetworkOf(a); n != nil {
		return n.Name
	}
	return a.String()
}
