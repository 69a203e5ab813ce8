package reach

import (
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Surplus is what people of a class can reach, as the gateway enforces it, and no expectation asks for.
type Surplus struct {
	Class string   `json:"class"`
	Users []string `json:"users" nullable:"false"`
	Lines []Line   `json:"lines" nullable:"false"`
}

// Pin is an expectation that says of a rule's permission that it is meant: then it is proved at every change, and no longer surplus.
type Pin struct {
	Rule        string   `json:"rule"`
	Classes     []string `json:"classes" nullable:"false" doc:"Whom it would be about."`
	Expectation string   `json:"expectation" doc:"To be added to expectations."`
}

// Beyond is what is reached beyond what is expected, worked out class by class: steps that may be done several at once.
type Beyond struct {
	k     *Known
	sides map[bool]*surpluses // by whether it is opened from inside
	lines [][]Line
}

// surpluses is of one direction, for each class, what no expectation asks for, and full reach.
type surpluses struct{ extra, full []netset.Traffic }

// Beyond prepares it.
func (k *Known) Beyond() *Beyond {
	n := len(k.Classes)
	b := &Beyond{k: k, sides: map[bool]*surpluses{}, lines: make([][]Line, n)}
	for _, inward := range []bool{false, true} {
		b.sides[inward] = &surpluses{make([]netset.Traffic, n), make([]netset.Traffic, n)}
	}
	return b
}

// Steps is one for each class.
func (b *Beyond) Steps() int { return len(b.lines) }

// Do works out one class; each once.
func (b *Beyond) Do(i int) {
	m, c := b.k.Model, b.k.Classes[i]
	among := expectations(m.Plan, b.k.among[i])
	for _, inward := range []bool{false, true} {
		j, s := judge{m, c.Class, b.k.Reaches[i], inward, among}, b.sides[inward]
		s.extra[i] = Everywhere(j.enforced()).Subtract(askedFor(m, among, c, inward))
		s.full[i] = Always(j.full())
		b.lines[i] = append(b.lines[i], j.lines(s.extra[i])...)
	}
}

// Surplus is the outcome, once every step is done.
func (b *Beyond) Surplus() []Surplus {
	out := []Surplus{}
	for i, c := range b.k.Classes {
		if len(b.lines[i]) > 0 {
			out = append(out, Surplus{c.Name(), c.Users, b.lines[i]})
		}
	}
	return out
}

// Pinning is what could be pinned of a surplus, worked out rule by rule: steps that may be done several at once. Rules that have hours, and
// rules whose permission people do not get in full, are not proposed: such an expectation would not hold.
type Pinning struct {
	b     *Beyond
	about about
	pins  []*Pin
}

// Pinning prepares it, once every step of what is beyond is done.
func (b *Beyond) Pinning() *Pinning {
	return &Pinning{b, aboutOf(b.k.Classes), make([]*Pin, len(b.k.Model.Plan.Rules))}
}

// Steps is one for each rule.
func (p *Pinning) Steps() int { return len(p.pins) }

// Do looks at one rule; each once.
func (p *Pinning) Do(i int) {
	r := &p.b.k.Model.Plan.Rules[i]
	if pin, ok := pin(p.b.k.Model, r, p.b.k.Classes, p.about, p.b.sides[r.Inward()]); ok {
		p.pins[i] = &pin
	}
}

// Pins is the outcome, once every step is done.
func (p *Pinning) Pins() []Pin {
	out := []Pin{}
	for _, pin := range p.pins {
		if pin != nil {
			out = append(out, *pin)
		}
	}
	return out
}

// askedFor joins what expectations ask for of a class in one direction, destination by destination as they are written.
func askedFor(m *site.Model, among []*plan.Expectation, c Class, inward bool) (asked netset.Traffic) {
	for _, e := range among {
		if e.Must == plan.Reach && e.Inward() == inward && Concerns(e, c) {
			asked = asked.Union(netset.Of(m.Names.Destinations(e.Peers()), m.Names.ServiceSet(e.Services)))
		}
	}
	return asked
}

func pin(m *site.Model, r *plan.Rule, classes []Class, about about, s *surpluses) (Pin, bool) {
	if r.Off || r.Action != plan.Permit || r.Hours != "" {
		return Pin{}, false
	}
	e := plan.Expectation{Groups: r.Groups, Everyone: len(r.Groups) == 0, Must: plan.Reach, To: r.To, From: r.From, Services: r.Services}
	permitted := netset.Of(m.Names.Destinations(r.Peers()), m.Names.ServiceSet(r.Services))
	p, adds := Pin{Rule: r.Name, Classes: []string{}}, false
	for _, i := range about.of(&e) {
		c := classes[i]
		if c.Passage == nil {
			continue
		}
		asked := Asked(m, c.Class, &e)
		if len(asked) == 0 || !s.full[i].Covers(asked) {
			return Pin{}, false
		}
		if len(s.extra[i].Intersect(permitted)) > 0 {
			adds = true
			p.Classes = append(p.Classes, c.Name())
		}
	}
	if !adds {
		return Pin{}, false
	}
	who, way := "everyone: true", "to"
	if r.Inward() {
		way = "from"
	}
	if len(r.Groups) > 0 {
		who = "groups: [" + strings.Join(r.Groups, ", ") + "]"
	}
	p.Expectation = fmt.Sprintf("{name: %s, %s, must: reach, %s: %s, services: %s}", freeName(m.Plan, r.Name), who, way, flowOf(r.Peers()),
		flowOf(r.Services))
	return p, true
}

func flowOf(words []string) string {
	list := make([]any, len(words))
	for i, w := range words {
		list[i] = w
	}
	return plan.Flow(list, nil)
}

// freeName is a name for an expectation that none has.
func freeName(p *plan.Plan, name string) string {
	for try, i := name, 2; ; try, i = fmt.Sprintf("%s-%d", name[:min(len(name), 56)], i), i+1 {
		if !slices.ContainsFunc(p.Expectations, func(e plan.Expectation) bool { return e.Name == try }) {
			return try
		}
	}
}
