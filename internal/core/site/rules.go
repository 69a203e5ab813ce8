package site

import (
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Rule is a compiled rule.
type Rule struct {
	*plan.Rule
	Index   int            // its place in the plan
	Traffic netset.Traffic // by the other end: where people go, or where what comes to them begins
	hours   *plan.Hours
}

// When says of what time a question to the rules is (docs/semantics.md, "Hours"). The zero value asks what holds at every
// hour: a permission that has hours does not count, a refusal does.
type When struct {
	Ever bool      // what gets through at some hour: a refusal that has hours does not count, a permission does
	At   time.Time // a moment
}

// Ever asks what gets through at some hour.
var Ever = When{Ever: true}

// At asks about a moment.
func At(t time.Time) When { return When{At: t} }

// acts tells whether the rule acts then. Hours that the plan does not have hold never, of a refusal always.
func (r *Rule) acts(w When) bool {
	switch {
	case r.Rule.Hours == "":
		return true
	case w.Ever:
		return r.Action == plan.Permit
	case w.At.IsZero():
		return r.Action == plan.Refuse
	case r.hours == nil:
		return r.Action == plan.Refuse
	}
	return r.hours.Hold(w.At)
}

// everyone is no group's name: a name cannot be empty.
const everyone = ""

func (m *Model) compileRules() {
	m.rulesFor = map[string][]int{}
	m.beyondPing = netset.Of(m.own, netset.AnyService.Subtract(echo))
	for i := range m.Plan.Rules {
		r := &m.Plan.Rules[i]
		if r.Off {
			continue
		}
		t := netset.Of(m.Names.Destinations(r.Peers()), m.Names.ServiceSet(r.Services))
		if r.Action == plan.Permit && !r.Inward() && !slices.Contains(r.To, plan.Itself) {
			t = t.Subtract(m.beyondPing)
		}
		for _, g := range r.Groups {
			m.rulesFor[g] = append(m.rulesFor[g], len(m.rules))
		}
		if len(r.Groups) == 0 {
			m.rulesFor[everyone] = append(m.rulesFor[everyone], len(m.rules))
		}
		m.rules = append(m.rules, Rule{r, i, t, m.Names.Hours[r.Hours]})
		m.timed = m.timed || r.Hours != ""
	}
}

// Timed tells whether some rule has hours, so that known flows must be judged again as time goes by.
func (m *Model) Timed() bool { return m.timed }

// side is what a class's rules say of one direction.
type side struct {
	permits, refusals []*Rule
	laid              atomic.Pointer[decision] // nil: each rule is asked
}

func (s *side) add(r *Rule) {
	if r.Action == plan.Refuse {
		s.refusals = append(s.refusals, r)
	} else {
		s.permits = append(s.permits, r)
	}
}

// Permits decides at the rules station about the first packet of a flow that a person opens. rule is the one that decided, nil if none
// covers it.
func (m *Model) Permits(c *Class, p Packet, when When) (rule *Rule, ok bool, ref Ref) {
	return m.decide(&c.outward, p, p.Dst, when)
}

// PermitsInward does the same for a flow that is opened from inside towards a person of the class.
func (m *Model) PermitsInward(c *Class, p Packet, when When) (rule *Rule, ok bool, ref Ref) {
	if m.own.Contains(p.Src) { // by translation: whose packet it was cannot be told any longer
		return nil, false, Ref{List: "rules"}
	}
	return m.decide(&c.inward, p, p.Src, when)
}

func (m *Model) decide(s *side, p Packet, peer netip.Addr, when When) (*Rule, bool, Ref) {
	if !p.Opens() {
		return nil, false, Ref{List: "rules"}
	}
	if !when.At.IsZero() {
		when.At = when.At.In(m.zone)
	}
	if d := s.laid.Load(); d != nil {
		return d.decide(peer, p.Service, when)
	}
	if r := firstOf(s.refusals, peer, p.Service, when); r != nil {
		return r, false, Ref{List: "rules", Name: r.Name}
	}
	if r := firstOf(s.permits, peer, p.Service, when); r != nil {
		return r, true, Ref{List: "rules", Name: r.Name}
	}
	if r := unhoured(s.permits, peer, p.Service); r != nil {
		return nil, false, Ref{List: "rules", Name: r.Name, Field: "hours"}
	}
	return nil, false, Ref{List: "rules"}
}

// firstOf is the first rule that acts then and covers a service there; nil if none does.
func firstOf(rules []*Rule, peer netip.Addr, service netset.Point, when When) *Rule {
	for _, r := range rules {
		if r.acts(when) && r.Traffic.Contains(peer, service) {
			return r
		}
	}
	return nil
}

// unhoured is the first rule that covers a service there at whatever hour.
func unhoured(rules []*Rule, peer netip.Addr, service netset.Point) *Rule {
	for _, r := range rules {
		if r.Traffic.Contains(peer, service) {
			return r
		}
	}
	return nil
}

// Judge is the rules station for the first packet of a flow that a person opens, in words. rule is the one that decided, nil if none covers
// it.
func (m *Model) Judge(c *Class, p Packet, when When) (rule *Rule, v Verdict) {
	return m.judge(&c.outward, p, p.Dst, when, "to "+m.Place(p.Dst), c)
}

// JudgeInward is the rules station for the first packet of a flow that is opened from inside towards a person of the class, in words.
func (m *Model) JudgeInward(c *Class, p Packet, when When) (rule *Rule, v Verdict) {
	if m.own.Contains(p.Src) {
		return nil, lost("rules", "%s is the gateway's own address, which the source became by translation: no rule is about it", p.Src)
	}
	return m.judge(&c.inward, p, p.Src, when, "from "+m.Place(p.Src)+" to people's devices", c)
}

func (m *Model) judge(s *side, p Packet, peer netip.Addr, when When, way string, c *Class) (*Rule, Verdict) {
	r, ok, ref := m.decide(s, p, peer, when)
	setting := ref.String()
	switch {
	case !p.Opens():
		return r, lost(setting, "%s cannot open a flow: it passes only with the flow it belongs to", p.Service)
	case ok:
		return r, pass(setting, "rule %s permits %s %s", r.Name, p.Service, way)
	case r != nil:
		return r, lost(setting, "rule %s refuses %s %s", r.Name, p.Service, way)
	case ref.Field != "":
		hours := unhoured(s.permits, peer, p.Service).Rule.Hours
		return nil, lost(setting, "rule %s permits %s %s only in its hours, %s", ref.Name, p.Service, way, hours)
	}
	if s == &c.outward && m.own.Contains(p.Dst) {
		return nil, lost(setting, "%s is the gateway's own address: no rule to %s permits %s there for %s", p.Dst, plan.Itself,
			p.Service, c.Name())
	}
	return nil, lost(setting, "no rule permits %s %s for %s", p.Service, way, c.Name())
}

// RulesSet is the traffic whose first packet the rules let through.
func (m *Model) RulesSet(c *Class, when When) netset.Traffic { return c.outward.set(when) }

// InwardRulesSet is the same of what is opened towards people of the class, by where it begins.
func (m *Model) InwardRulesSet(c *Class, when When) netset.Traffic { return c.inward.set(when) }

// ReachedFromInside tells whether some rule permits something towards people of the class.
func (c *Class) ReachedFromInside() bool { return len(c.inward.permits) > 0 }

func (s *side) set(when When) netset.Traffic {
	return unionOf(s.permits, when).Subtract(unionOf(s.refusals, when)).Intersect(opening)
}

func unionOf(rules []*Rule, when When) netset.Traffic {
	sets := make([]netset.Traffic, 0, len(rules))
	for _, r := range rules {
		if r.acts(when) {
			sets = append(sets, r.Traffic)
		}
	}
	return netset.UnionAll(sets)
}

// Opening is all traffic that can open a flow.
func Opening() netset.Traffic { return opening }
