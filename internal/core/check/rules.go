package check

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// rules finds rules that never act, and rules that permit more than somebody is likely to mean.
func (c *checker) rules() {
	admitted := map[string]bool{}
	for _, p := range c.p.Passages {
		for _, g := range p.Groups {
			admitted[g] = admitted[g] || !p.Off
		}
	}
	var silent []string
	for _, r := range c.p.Rules {
		if !r.Log && !r.Off {
			silent = append(silent, r.Name)
		}
	}
	if len(silent) > 0 {
		c.add(Note, "no-logging", "rules", "say log: true where you will want to know who used it", "%d of %d rules leave no line in the journal: %s", len(silent), len(c.p.Rules), few(silent))
	}
	traffic := make([]netset.Traffic, len(c.p.Rules))
	for i, r := range c.p.Rules {
		traffic[i] = netset.Of(c.n.Destinations(r.Peers()), c.n.ServiceSet(r.Services))
	}
	byGroup := map[string][]int{}
	var forAll []int
	for i, r := range c.p.Rules {
		for _, g := range r.Groups {
			byGroup[g] = append(byGroup[g], i)
		}
		if len(r.Groups) == 0 {
			forAll = append(forAll, i)
		}
	}
	for i, r := range c.p.Rules {
		if r.Off {
			continue
		}
		path := "rules/" + r.Name
		for k, g := range r.Groups {
			if c.n.Groups[g] != nil && !admitted[g] {
				c.add(Warn, "rule-for-nobody", at(path+"/groups", k), "admit the group by a passage, or take it out",
					"no passage admits group %s: this rule never acts for it", g)
				if len(r.Groups) > 1 { // a rule without groups would be about everyone
					c.mend("remove", at(path+"/groups", k), "")
				}
			}
		}
		c.oneEnd(path, r.To, r.From)
		if r.Action == plan.Permit {
			for k, w := range r.From {
				if w == plan.Any || isEverything(w) {
					c.add(Warn, "any-source", at(path+"/from", k), "name the hosts that are meant, such as a help desk's",
						"rule %s lets every place open flows towards people's devices", r.Name)
				}
			}
			for k, w := range r.To {
				dst, _ := c.n.Destination(w)
				if w == plan.Any || isEverything(w) {
					c.add(Warn, "any-destination", at(path+"/to", k), "name the networks or hosts that are meant",
						"rule %s permits every destination, networks made later among them", r.Name)
				} else if dst.Overlaps(c.n.InsideAddrs()) && slices.Contains(r.Services, plan.Any) {
					c.add(Warn, "any-service", path+"/services", "name the services that are meant", "rule %s permits every service inside",
						r.Name)
					break
				}
			}
		}
		candidates := slices.Clone(forAll)
		if len(r.Groups) > 0 {
			candidates = append(candidates, byGroup[r.Groups[0]]...)
		}
		for _, k := range candidates {
			o := c.p.Rules[k]
			if k == i || o.Off || o.Inward() != r.Inward() || o.Action != r.Action && o.Action != plan.Refuse || !appliesToAll(o, r) ||
				!traffic[k].Covers(traffic[i]) || len(traffic[i]) == 0 {
				continue
			}
			if traffic[i].Covers(traffic[k]) && appliesToAll(r, o) && o.Action == r.Action && k > i {
				continue // equal: the second is the one too many
			}
			c.add(Warn, "rule-never-acts", path, "remove it, or narrow "+o.Name, "rule %s never acts: rule %s covers all of it", r.Name,
				o.Name)
			c.mend("remove", path, "")
			break
		}
	}
}

// appliesToAll tells whether rule o is about everybody whom rule r is about.
func appliesToAll(o, r plan.Rule) bool {
	if len(o.Groups) == 0 {
		return true
	}
	return len(r.Groups) > 0 && !slices.ContainsFunc(r.Groups, func(g string) bool { return !slices.Contains(o.Groups, g) })
}

func isEverything(word string) bool {
	p, err := netip.ParsePrefix(word)
	return err == nil && p.Bits() == 0
}

// oneEnd finds a rule or expectation that says both to and from, or neither.
func (c *checker) oneEnd(path string, to, from []string) {
	switch {
	case len(to) == 0 && len(from) == 0:
		c.add(Stop, "no-other-end", path, "say to: where people go, or from: what reaches their devices", "it says neither to nor from, and is about nothing")
	case len(to) > 0 && len(from) > 0:
		c.add(Stop, "both-ends", path, "make two of it, one with to and one with from", "it says to and from at once: what people open and what is opened towards them are two things")
	}
}
