package reach

import (
	"yellowlantern/internal/core/site"
)

// Change is what one class gains and loses between two plans, on the enforced side.
type Change struct {
	Class  string   `json:"class"`
	Users  []string `json:"users" nullable:"false"`
	Gains  []Line   `json:"gains" nullable:"false"`
	Loses  []Line   `json:"loses" nullable:"false"`
	Shut   bool     `json:"shut" doc:"Reached something before, and nothing after."`
	Before string   `json:"before,omitempty" doc:"Passage before."`
	After  string   `json:"after,omitempty" doc:"Passage after."`
}

// Changes compares the reach of every class of the people under two models. before may be nil: there was no plan.
func Changes(before, after *site.Model, people []Person) []Change {
	var was *Known
	if before != nil {
		was = Compute(before, people)
	}
	return ChangesBetween(was, was.Again(after, people))
}

// ChangesBetween does the same of what is known of two plans, with the same people. before may be nil: there was no plan.
func ChangesBetween(before, after *Known) []Change {
	out := []Change{}
	index := map[string]int{}
	if before != nil {
		for i, c := range before.Classes {
			index[c.Name()] = i
		}
	}
	for i, class := range after.Classes {
		c := Change{Class: class.Name(), Users: class.Users, Gains: []Line{}, Loses: []Line{}, After: passageName(class.Class)}
		j := judge{m: after.Model, c: class.Class, r: after.Reaches[i]}
		var prior Reach
		was, known := index[class.Name()]
		if known {
			prior, c.Before = before.Reaches[was], passageName(before.Classes[was].Class)
			if c.Before == c.After && takenOver(prior, j.r) {
				continue
			}
		}
		for _, inward := range []bool{false, true} {
			j.inward = inward
			then, now := Everywhere(judge{r: prior, inward: inward}.enforced()), Everywhere(j.enforced())
			if then.Equal(now) {
				continue
			}
			c.Gains = append(c.Gains, j.lines(now.Subtract(then))...)
			if before != nil {
				c.Loses = append(c.Loses, judge{m: before.Model, inward: inward}.lines(then.Subtract(now))...)
			}
			c.Shut = c.Shut || !inward && len(then) > 0 && len(now) == 0
		}
		if len(c.Gains) > 0 || len(c.Loses) > 0 || c.Before != c.After {
			out = append(out, c)
		}
	}
	return out
}

func passageName(c *site.Class) string {
	if c.Passage == nil {
		return ""
	}
	return c.Passage.Name
}

// takenOver tells whether one reach is the other, not merely equal to it.
func takenOver(a, b Reach) bool {
	same := func(x, y []Part) bool { return len(x) == len(y) && (len(x) == 0 || &x[0] == &y[0]) }
	return same(a.Enforced, b.Enforced) && same(a.InEnforced, b.InEnforced)
}
