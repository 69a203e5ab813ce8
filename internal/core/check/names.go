package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

type reachPerson = reach.Person

var ask = netset.Ports(netset.UDP, 53, 53).Union(netset.Ports(netset.TCP, 53, 53))

// names finds name servers that people cannot ask, and names that they cannot use.
func (c *checker) names() {
	insideNames := slices.ContainsFunc(c.p.Hosts, func(h plan.Host) bool { return h.DNS != "" })
	var alone []string
	for i := range c.p.Passages {
		p := &c.p.Passages[i]
		if p.Off {
			continue
		}
		base := "passages/" + p.Name + "/dns"
		c.domains(base+"/search", p.DNS.Search)
		c.domains(base+"/domains", p.DNS.Domains)
		if len(p.DNS.Servers) == 0 {
			c.add(Warn, "no-name-server", base, "name the inside name server",
				"people of passage %s are given no name server: inside names do not resolve", p.Name)
			continue
		}
		inside := false
		for k, s := range p.DNS.Servers {
			path := at(base+"/servers", k)
			if !c.n.InsideAddrs().Contains(s) {
				continue
			}
			inside = true
			if !p.Routes.Full && !c.n.Destinations(p.Routes.Split).Contains(s) {
				c.add(Stop, "name-server-not-routed", path, "add "+c.nameOf(s)+" to passages/"+p.Name+"/routes/split",
					"name server %s is not among the split routes of passage %s: no name resolves", s, p.Name)
				c.mend("add", "passages/"+p.Name+"/routes/split", quote(c.nameOf(s)))
			}
			for n, class := range c.classes {
				if class.Passage == nil || class.Passage.Name != p.Name {
					continue
				}
				if want := netset.Of(netset.OfAddrs(s), ask); !c.enforced[n].Covers(want) {
					c.add(Stop, "name-server-not-permitted", path,
						"add a rule that permits udp/53 and tcp/53 to "+c.nameOf(s)+" for "+class.Name(), "no rule lets %s ask name server %s: no name resolves for %s", class.Name(), s, quoted(class.Users))
					c.mend("add", "rules", fmt.Sprintf("{name: %s, action: permit, groups: [%s], to: [%s], services: [udp/53, tcp/53]}", c.freeRule("names-for-"+class.Groups[0]), quoted(class.Groups), quote(c.nameOf(s))))
				}
			}
		}
		if !inside && insideNames {
			severity := Warn
			if c.failsByName(p.Name) { // of all that is found then it is the cause
				severity = Stop
			}
			c.add(severity, "public-name-servers-only", base+"/servers", c.nameTheInside(p),
				"people of passage %s are given public name servers only, which do not know the inside names", p.Name)
			c.mendNames(p)
		}
		if len(p.DNS.Search) == 0 {
			c.add(Note, "no-search-domain", base, "add the site's domain under search",
				"short names do not resolve for people of passage %s", p.Name)
		}
		if len(p.DNS.Servers) == 1 {
			alone = append(alone, p.Name)
		}
	}
	if len(alone) > 0 {
		c.add(Note, "one-name-server", "passages", "add a second one under dns", "people of passages %s have one name server: when it is down, no name resolves for them", few(alone))
	}
}

// knowsInside tells whether people of a passage are given a name server of the inside.
func (c *checker) knowsInside(p *plan.Passage) bool {
	return slices.ContainsFunc(p.DNS.Servers, c.n.InsideAddrs().Contains)
}

// failsByName tells whether an expectation by name fails for people of a passage.
func (c *checker) failsByName(passage string) bool {
	if c.known == nil {
		return false
	}
	return slices.ContainsFunc(c.known.Proof.Results, func(r reach.Result) bool {
		p := c.classes[c.classAt(r.Class)].Passage
		return r.Outcome != reach.Holds && p != nil && p.Name == passage && c.isByName(r)
	})
}

// isByName tells whether a result is of an expectation that is tried by name, and fails by that.
func (c *checker) isByName(r reach.Result) bool {
	i := slices.IndexFunc(c.p.Expectations, func(e plan.Expectation) bool { return e.Name == r.Expectation })
	return i >= 0 && c.p.Expectations[i].ByName && r.Example != nil && r.Example.Service == "udp/53"
}

// insideNameServers are the addresses of a name server that people of a passage could be given: one that another passage gives, or a host
// that a rule lets people ask, and that is for no more than that.
func (c *checker) insideNameServers(p *plan.Passage) []netip.Addr {
	for i := range c.p.Passages {
		if other := &c.p.Passages[i]; !other.Off && other.Name != p.Name {
			if k := slices.IndexFunc(other.DNS.Servers, c.n.InsideAddrs().Contains); k >= 0 {
				return []netip.Addr{other.DNS.Servers[k]}
			}
		}
	}
	for _, r := range c.p.Rules {
		asks := c.n.ServiceSet(r.Services)
		onlyNames := asks.Contains(netset.PortPoint(netset.UDP, 53)) && !asks.Contains(netset.PortPoint(netset.TCP, 80))
		if r.Off || r.Action != plan.Permit || !onlyNames {
			continue
		}
		to := c.n.Destinations(r.To)
		for _, h := range c.p.Hosts {
			if len(h.Addresses) == 0 || len(h.Ranges) > 0 || !to.Equal(netset.OfAddrs(h.Addresses...)) {
				continue
			}
			return slices.DeleteFunc(slices.Clone(h.Addresses), func(a netip.Addr) bool {
				pool := c.n.Pools[p.Pool] // people have addresses of its families alone
				return pool != nil && !slices.ContainsFunc(pool.Space(), func(s netset.Span) bool { return s.From.Is4() == a.Is4() })
			})
		}
	}
	return nil
}

func (c *checker) nameTheInside(p *plan.Passage) string {
	if found := c.insideNameServers(p); len(found) > 0 {
		return "name the inside name server first: " + few(addresses(found))
	}
	return "name the inside name server first"
}

// mendNames has the last finding mended by the inside name server, where there is one that can be known.
func (c *checker) mendNames(p *plan.Passage) {
	if found := c.insideNameServers(p); len(found) > 0 {
		var words []string
		for _, a := range append(slices.Clone(found), p.DNS.Servers...) {
			words = append(words, quote(a.String()))
		}
		c.mend("set", "passages/"+p.Name+"/dns/servers", "["+strings.Join(words, ", ")+"]")
	}
}

func addresses(all []netip.Addr) (out []string) {
	for _, a := range all {
		out = append(out, a.String())
	}
	return out
}

func (c *checker) domains(base string, words []string) {
	for i, w := range words {
		if !domain(w) {
			c.add(Stop, "malformed-domain", at(base, i), "write it as tern.example",
				"%q is no domain: devices ignore it, or refuse the whole configuration", w)
		}
	}
}

// domain tells whether a text is a DNS domain (RFC 1035 §2.3.1, letters in any case).
func domain(text string) bool {
	if text == "" || len(text) > 253 {
		return false
	}
	if _, err := netip.ParseAddr(text); err == nil {
		return false
	}
	for _, label := range strings.Split(strings.TrimSuffix(text, "."), ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for _, r := range label {
			if !(r == '-' || r == '_' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z') {
				return false
			}
		}
	}
	return true
}
