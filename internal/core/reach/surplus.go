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

// Surpluses lists what every class reaches beyond what is expected, and what could be pinned of it. Rules that have hours, and rules whose
// permission people do not get in full, are not proposed: such an expectation would not hold.
func Surpluses(m *site.Model, people []Person) ([]Surplus, []Pin) {
	return Compute(m, people).Surpluses()
}

// Surpluses is the same of what is computed already.
func (k *Known) Surpluses() ([]Surplus, []Pin) {
	m, classes := k.Model, k.Classes
	out := []Surplus{}
	sides := map[bool]*surpluses{}
	for _, inward := range []bool{false, true} {
		sides[inward] = &surpluses{make([]netset.Traffic, len(classes)), make([]netset.Traffic, len(classes))}
	}
	for i, c := range classes {
		r := k.Reaches[i]
		var lines []Line
		for _, inward := range []bool{false, true} {
			j, s := judge{m, c.Class, r, inward}, sides[inward]
			s.extra[i] = Everywhere(j.enforced()).Subtract(askedFor(m, c, inward))
			s.full[i] = Always(j.full())
			lines = append(lines, j.lines(s.extra[i])...)
		}
		if len(lines) > 0 {
			out = append(out, Surplus{c.Name(), c.Users, lines})
		}
	}
	pins := []Pin{}
	for i := range m.Plan.Rules {
		r := &m.Plan.Rules[i]
		if p, ok := pin(m, r, classes, sides[r.Inward()]); ok {
			pins = append(pins, p)
		}
	}
	return out, pins
}

// surpluses is of one direction, for each class, what no expectation asks for, and full reach.
type surpluses struct{ extra, full []netset.Traffic }

// askedFor joins what expectations ask for of a class in one direction, destination by destination as they are written.
func askedFor(m *site.Model, c Class, inward bool) (asked netset.Traffic) {
	for i := range m.Plan.Expectations {
		e := &m.Plan.Expectations[i]
		if e.Must == plan.Reach && e.Inward() == inward && Concerns(e, c) {
			asked = asked.Union(netset.Of(m.Names.Destinations(e.Peers()), m.Names.ServiceSet(e.Services)))
		}
	}
	return asked
}

func pin(m *site.Model, r *plan.Rule, classes []Class, s *surpluses) (Pin, bool) {
	if r.Off || r.Action != plan.Permit || r.Hours != "" {
		return Pin{}, false
	}
	e := plan.Expectation{Groups: r.Groups, Everyone: len(r.Groups) == 0, Must: plan.Reach, To: r.To, From: r.From, Services: r.Services}
	permitted := netset.Of(m.Names.Destinations(r.Peers()), m.Names.ServiceSet(r.Services))
	p, adds := Pin{Rule: r.Name, Classes: []string{}}, false
	for i, c := range classes {
		if c.Passage == nil || !Concerns(&e, c) {
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
