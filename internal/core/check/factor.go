package check

import (
	"maps"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// factors finds what keeps people from giving their second factor.
func (c *checker) factors() {
	asked := map[string]bool{} // gateways by which somebody is asked
	for i := range c.p.Passages {
		p := &c.p.Passages[i]
		if p.Off {
			continue
		}
		if !p.Factor.Asked {
			c.singleFactor(p)
			continue
		}
		for _, name := range p.Tunnels {
			if t := c.n.Tunnels[name]; t != nil && !t.Off {
				asked[t.Gateway] = true
			}
		}
		c.factor(p)
	}
	for i := range c.p.Gateways {
		if g := &c.p.Gateways[i]; g.CodePage != nil {
			c.codePage(g, asked[g.Name])
		}
	}
}

// singleFactor finds that people of a passage come in by a password alone, or by a key alone.
func (c *checker) singleFactor(p *plan.Passage) {
	path := "passages/" + p.Name
	if p.Factor.Waived != "" {
		return
	}
	by := map[string]bool{}
	for _, name := range p.Tunnels {
		t := c.n.Tunnels[name]
		if t == nil || t.Off {
			continue
		}
		for _, way := range t.Logins() {
			switch {
			case way == plan.LoginBoth:
			case way == plan.LoginEAPTLS || plan.WantsKey(way):
				by["the key of their device"] = true
			default:
				by["a password"] = true
			}
		}
	}
	if len(by) == 0 {
		return
	}
	c.add(Warn, "single-factor", path, "say second-factor: {asked: true}, with a code page at the gateway, or say there why it is waived",
		"people of passage %s come in by %s alone: whoever has it is in", p.Name, strings.Join(slices.Sorted(maps.Keys(by)), ", or by "))
}

// factor finds it for one passage.
func (c *checker) factor(p *plan.Passage) {
	path := "passages/" + p.Name + "/second-factor"
	if p.Factor.Waived != "" {
		c.add(Warn, "second-factor-waived", path+"/waived", "leave out one of the two",
			"passage %s asks for a second factor, and says why it asks for none", p.Name)
		c.mend("remove", path+"/waived", "")
	}
	byKey, byPassword := false, false
	for _, name := range p.Tunnels {
		t := c.n.Tunnels[name]
		if t == nil || t.Off {
			continue
		}
		for _, way := range t.Logins() {
			byKey = byKey || plan.WantsKey(way) || way == plan.LoginEAPTLS
			byPassword = byPassword || !plan.WantsKey(way) && way != plan.LoginEAPTLS
		}
		g := c.n.Gateways[t.Gateway]
		switch {
		case g == nil:
		case g.CodePage == nil:
			c.add(Stop, "second-factor-no-page", path, "give gateway "+g.Name+" a code page: a name, and an address that nothing else has",
				"people of passage %s are held until they give their second factor, and gateway %s has no page where they could", p.Name, g.Name)
		default:
			c.pageFits(p, g)
		}
	}
	if byPassword && !byKey {
		if p.Factor.Remember > 0 {
			c.add(Warn, "second-factor-not-remembered", path+"/remember", "leave it out, or let people come in by certificates",
				"devices of passage %s come in by passwords alone: there is nothing to remember them by, and they are asked each time", p.Name)
			c.mend("remove", path+"/remember", "")
		} else {
			c.add(Note, "second-factor-each-time", path, "let people come in by certificates, and say remember",
				"devices of passage %s come in by passwords alone: they are held at every reconnection, until the code is given again", p.Name)
		}
	}
	var without []string
	for _, who := range c.People {
		mine := c.n.PassageOf(who.Groups)
		if mine != nil && mine.Name == p.Name && p.Factor.Asks(who.Groups) && !who.Factor {
			without = append(without, who.User)
		}
	}
	if len(without) > 0 && !c.p.CodesByMail {
		c.add(Warn, "no-second-factor", path, "give each a link by which they get one: yl users second-factor link "+without[0],
			"%s, asked for a second factor by passage %s, %s none: they connect, and reach nothing but the code page", quoted(without), p.Name,
			map[bool]string{true: "has", false: "have"}[len(without) == 1])
	}
	for i, from := range p.Factor.NotFrom {
		if from.Bits() == 0 {
			c.add(Warn, "second-factor-of-nobody", at(path+"/not-from", i), "name the public addresses of places alone",
				"passage %s asks for a second factor, and not from %s, which is everywhere", p.Name, from)
		}
	}
}

// pageFits holds a code page against the devices of a passage.
func (c *checker) pageFits(p *plan.Passage, g *plan.Gateway) {
	path := "gateways/" + g.Name + "/code-page/addresses"
	pool := c.n.Pools[p.Pool]
	if pool == nil {
		return
	}
	for _, v4 := range []bool{true, false} {
		family := map[bool]string{true: "IPv4", false: "IPv6"}[v4]
		if pool.Addresses().HasFamily(v4) && !slices.ContainsFunc(g.CodePage.Addresses, func(a netip.Addr) bool { return a.Is4() == v4 }) {
			c.add(Warn, "code-page-family", path, "give the page an "+family+" address",
				"a device of passage %s that asks for %s alone never gets to the code page, which has no such address", p.Name, family)
		}
	}
	if len(p.DNS.Servers) == 0 {
		c.add(Warn, "code-page-unnamed", "passages/"+p.Name+"/dns", "give the passage a name server",
			"devices of passage %s are told no name server: they ask elsewhere for %s, and find the code page only if it is known there", p.Name, g.CodePage.Name)
	}
}

// codePage finds what is wrong with a code page itself.
func (c *checker) codePage(g *plan.Gateway, asked bool) {
	path := "gateways/" + g.Name + "/code-page"
	page := g.CodePage
	if !asked {
		c.add(Note, "code-page-unused", path, "let a passage ask for a second factor, or leave the page out", "nobody is sent to the code page of gateway %s", g.Name)
		c.mend("remove", path, "")
	}
	if !hostName.MatchString(page.Name) {
		c.add(Stop, "code-page-name", path+"/name", "write a name such as code.tern.example", "%q is no name that people could open", page.Name)
	} else if have := c.Certificates[page.Shown()]; have != nil {
		if why := cert.Problem(have, page.Name, c.Now); why != "" {
			c.add(Stop, "code-page-certificate", path+"/certificate",
				"yl certificate make "+page.Shown()+forAll(have, page.Name)+", or import one",
				"browsers refuse or warn of the code page: certificate %q: %s", page.Shown(), why)
		}
	}
	if len(page.Addresses) == 0 {
		c.add(Stop, "code-page-address", path+"/addresses", "give it an address that nothing else has", "the code page of gateway %s is nowhere", g.Name)
	}
	taken := c.takenAddresses()
	families := map[bool]bool{}
	for i, a := range page.Addresses {
		where := at(path+"/addresses", i)
		why := ""
		switch {
		case families[a.Is4()]:
			why = "is a second one of its family"
		case !plan.Private.Contains(a):
			why = "is public: it is somebody's on the internet"
		case taken.Contains(a):
			why = "is somebody's already: a gateway's, a router's, a host's, a name server's, or a pool's"
		}
		families[a.Is4()] = true
		if why != "" {
			c.add(Stop, "code-page-address", where, "give the page a private address that nothing else has",
				"%s %s: whoever is meant by it is not reached by people", a, why)
			if free, ok := freeBeside(a, taken); ok {
				c.mend("set", where, free.String())
			}
		}
	}
}

// takenAddresses are those that the plan knows to be somebody's.
func (c *checker) takenAddresses() (out netset.Addrs) {
	var all []netip.Addr
	for _, g := range c.p.Gateways {
		all = append(all, g.Outside.Addresses...)
		for _, at := range g.Inside {
			all = append(all, at.Addresses...)
		}
	}
	for _, r := range c.p.Routers {
		all = append(all, r.Addresses...)
	}
	for _, p := range c.p.Passages {
		all = append(all, p.DNS.Servers...)
	}
	out = netset.OfAddrs(all...)
	for i := range c.p.Hosts {
		out = out.Union(c.n.Destinations([]string{c.p.Hosts[i].Name}))
	}
	for i := range c.p.Pools {
		out = out.Union(c.p.Pools[i].Space())
	}
	for _, n := range c.p.Networks {
		for _, r := range n.DHCP {
			out = out.Union(netset.Addrs{{From: r.From, To: r.To}})
		}
	}
	return out
}

// freeBeside is the next private address that is nobody's.
func freeBeside(a netip.Addr, taken netset.Addrs) (netip.Addr, bool) {
	if !plan.Private.Contains(a) {
		a = netip.MustParseAddr(map[bool]string{true: "10.255.255.1", false: "fd00:ffff::1"}[a.Is4()])
	}
	for range 1 << 12 {
		if a = a.Next(); plan.Private.Contains(a) && !taken.Contains(a) {
			return a, true
		}
	}
	return a, false
}
