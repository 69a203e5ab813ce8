package site

import (
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Rule is a compiled rule.
type Rule struct {
	*plan.Rule
	Index   int // its place in the plan
	Traffic netset.Traffic
}

// everyone is no group's name: a name cannot be empty.
const everyone = ""

func (m *Model) compileRules() {
	m.rulesFor = map[string][]int{}
	for i := range m.Plan.Rules {
		r := &m.Plan.Rules[i]
		if r.Off {
			continue
		}
		t := netset.Of(m.Names.Destinations(r.To), m.Names.ServiceSet(r.Services))
		for _, g := range r.Groups {
			m.rulesFor[g] = append(m.rulesFor[g], len(m.rules))
		}
		if len(r.Groups) == 0 {
			m.rulesFor[everyone] = append(m.rulesFor[everyone], len(m.rules))
		}
		m.rules = append(m.rules, Rule{r, i, t})
	}
}

// Judge is the rules station for a flow's first packet. rule is the one that decided, nil if none covers it.
func (m *Model) Judge(c *Class, p Packet) (rule *Rule, v Verdict) {
	if !p.Opens() {
		return nil, lost("rules", "%s cannot open a flow: it passes only with the flow it belongs to", p.Service)
	}
	covers := func(r *Rule) bool { return r.Traffic.Contains(p.Dst, p.Service) }
	if i := slices.IndexFunc(c.refusals, covers); i >= 0 {
		r := c.refusals[i]
		return r, lost("rules/"+r.Name, "rule %s refuses %s to %s", r.Name, p.Service, m.Place(p.Dst))
	}
	if i := slices.IndexFunc(c.permits, covers); i >= 0 {
		r := c.permits[i]
		return r, pass("rules/"+r.Name, "rule %s permits %s to %s", r.Name, p.Service, m.Place(p.Dst))
	}
	return nil, lost("rules", "no rule permits %s to %s for %s", p.Service, m.Place(p.Dst), c.Name())
}

// RulesSet is the traffic whose first packet the rules let through.
func (m *Model) RulesSet(c *Class) netset.Traffic {
	return unionOf(c.permits).Subtract(unionOf(c.refusals)).Intersect(opening)
}

func unionOf(rules []*Rule) netset.Traffic {
	sets := make([]netset.Traffic, len(rules))
	for i, r := range rules {
		sets[i] = r.Traffic
	}
	return netset.UnionAll(sets)
}

// Opening is all traffic that can open a flow.
func Opening() netset.Traffic { return opening }
