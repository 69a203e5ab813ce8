package reach

import (
	"yellowlantern/internal/core/netset"
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
		var was, is netset.Traffic
		if old != nil {
			prior := before.Class(class.Groups)
			was = Everywhere(old.Of(prior).Enforced)
			c.Before = passageName(prior)
		}
		r := now.Of(class.Class)
		is = Everywhere(r.Enforced)
		c.After = passageName(class.Class)
		if was.Equal(is) && c.Before == c.After {
			continue
		}
		c.Gains = judge{m: after}.lines(is.Subtract(was))
		if before != nil {
			c.Loses = judge{m: before}.lines(was.Subtract(is))
		}
		c.Shut = len(was) > 0 && len(is) == 0
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
