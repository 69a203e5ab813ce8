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
	var old *Computer
	if before != nil {
		old = NewComputer(before)
	}
	now := NewComputer(after)
	out := []Change{}
	for _, class := range Classes(after, people) {
		c := Change{Class: class.Name(), Users: class.Users, Gains: []Line{}, Loses: []Line{}}
		var prior Reach
		j := judge{m: after, c: class.Class}
		if old != nil {
			then := before.Class(class.Groups)
			prior = old.Of(then)
			c.Before = passageName(then)
		}
		j.r = now.Of(class.Class)
		c.After = passageName(class.Class)
		for _, inward := range []bool{false, true} {
			j.inward = inward
			was, is := Everywhere(judge{r: prior, inward: inward}.enforced()), Everywhere(j.enforced())
			c.Gains = append(c.Gains, j.lines(is.Subtract(was))...)
			if before != nil {
				c.Loses = append(c.Loses, judge{m: before, inward: inward}.lines(was.Subtract(is))...)
			}
			c.Shut = c.Shut || !inward && len(was) > 0 && len(is) == 0
		}
		if len(c.Gains) == 0 && len(c.Loses) == 0 && c.Before == c.After {
			continue
		}
		out = append(out, c)
	}
	return out
}

func passageName(c *site.Class) string {
	if c.Passage == nil {
		return ""
	}
	return c.Passage.Name
}
