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
			c.add(Warn, "public-name-servers-only", base+"/servers", "name the inside name server first",
				"people of passage %s are given public name servers only, which do not know the inside names", p.Name)
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
