package check

import (
	"cmp"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

// expectations finds those that the plan does not meet, and what is not asked.
func (c *checker) expectations() {
	if c.m == nil {
		return
	}
	for _, r := range c.known.Proof.Results {
		if r.Outcome == reach.Holds {
			continue
		}
		fix := "change the plan, or the expectation"
		if r.Example != nil {
			fix = r.Example.Fix
		}
		var public *plan.Passage // which gives public name servers: there is no sense in routing those into the tunnel
		if p := c.classes[c.classAt(r.Class)].Passage; p != nil && c.isByName(r) && !c.knowsInside(p.Passage) {
			public, fix = p.Passage, c.nameTheInside(p.Passage)
		}
		c.add(Stop, "expectation-fails", "expectations/"+r.Expectation, fix, "%s (%s): %s", r.Class, cmp.Or(strings.Join(r.Users, ", "), "nobody seen yet"), r.Words)
		if public != nil {
			c.mendNames(public)
		} else {
			c.mendExpectation(r)
		}
	}
	forbids, byName := false, false
	for _, e := range c.p.Expectations {
		forbids = forbids || e.Must != plan.Reach
		byName = byName || e.ByName
		if e.Must != plan.NothingElse {
			c.oneEnd("expectations/"+e.Name, e.To, e.From)
		}
		if e.Must != plan.Reach {
			continue
		}
		if len(e.Services) == 0 {
			c.add(Stop, "expectation-empty", "expectations/"+e.Name, "say which services", "expectation %s names no service to reach",
				e.Name)
			continue
		}
		if dst := c.n.Destinations(e.To); len(dst) > 0 && c.m.OwnAddresses().Covers(dst) {
			c.add(Warn, "only-the-gateway", "expectations/"+e.Name+"/to", "name a host behind the gateway",
				"only the gateway's own address is tried: that says nothing about what is behind it")
		}
	}
	if len(c.p.Passages) > 0 && len(c.p.Expectations) > 0 {
		if !forbids {
			c.add(Warn, "nothing-forbidden", "expectations", "add one with must: not-reach, or must: nothing-else",
				"no expectation says what people must not reach: too much reach would go unnoticed")
		}
		if !byName && slices.ContainsFunc(c.p.Hosts, func(h plan.Host) bool { return h.DNS != "" }) {
			c.add(Warn, "no-name-tried", "expectations", "say by-name: true in one of them",
				"no expectation is tried by name: people use names")
		}
	}
	for i := range c.p.Passages {
		p := &c.p.Passages[i]
		if p.Off {
			continue
		}
		asked := netset.Services{}
		for k := range c.p.Expectations {
			e := &c.p.Expectations[k]
			if e.Must == plan.Reach && !e.Inward() &&
				(e.Everyone || slices.ContainsFunc(e.Groups, func(g string) bool { return slices.Contains(p.Groups, g) }) ||
					len(e.Users) > 0) {
				asked = asked.Union(c.n.ServiceSet(e.Services))
			}
		}
		switch echo, _ := netset.ParseServices("ping"); {
		case len(asked) == 0:
			c.add(Warn, "nothing-expected", "passages/"+p.Name, "add an expectation for one of its groups",
				"no expectation says what people of passage %s must reach: it cannot be proved nor tried", p.Name)
		case len(asked.Subtract(echo)) == 0:
			c.add(Warn, "only-ping", "passages/"+p.Name, "expect the services that people use",
				"for people of passage %s only ping is expected: a service can be shut while ping answers", p.Name)
		}
	}
}
