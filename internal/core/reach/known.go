package reach

import (
	"reflect"
	"slices"
	"strings"

	"yellowlantern/internal/core/site"
)

// Known is what was computed of a plan. It is kept, so that after a small change most need not be computed again. It does not change.
type Known struct {
	Model   *site.Model
	Classes []Class
	Reaches []Reach // of each class
	Proof   Proof
	// Reused is how many classes were taken over from what was known before.
	Reused int

	people []Person
}

// People are those whom it was computed for.
func (k *Known) People() []Person { return k.people }

// Compute works out everything of a model.
func Compute(m *site.Model, people []Person) *Known { return (*Known)(nil).Again(m, people) }

// Again works out a model of which another version is known: a class whose passage and rules are what they were, on the same ground,
// reaches what it did. k may be nil: nothing is known.
func (k *Known) Again(m *site.Model, people []Person) *Known {
	out := &Known{Model: m, Classes: Classes(m, people), people: people}
	out.Reaches = make([]Reach, len(out.Classes))
	kept := make([]bool, len(out.Classes)) // reach, and so the results of expectations that are what they were
	before := map[string]int{}
	if k != nil && k.Model.SameGround(m) {
		for i, c := range k.Classes {
			before[strings.Join(c.Groups, "\x00")] = i
		}
	}
	comp := NewComputer(m)
	for i, c := range out.Classes {
		if was, known := before[strings.Join(c.Groups, "\x00")]; known && k.Classes[was].SameAs(c.Class) {
			out.Reaches[i], kept[i] = k.Reaches[was], slices.Equal(k.Classes[was].Users, c.Users)
			out.Reused++
			continue
		}
		out.Reaches[i] = comp.Of(c.Class)
	}
	var old *Proof
	if k != nil && reflect.DeepEqual(k.Model.Plan.Expectations, m.Plan.Expectations) {
		old = &k.Proof
	}
	out.Proof = proveAgain(m, out.Classes, out.Reaches, old, kept)
	return out
}

// proveAgain holds the expectations against reach, and takes results over of classes that are kept.
func proveAgain(m *site.Model, classes []Class, reaches []Reach, old *Proof, kept []bool) Proof {
	if old == nil {
		return ProveWith(m, classes, reaches)
	}
	results := map[[2]string]Result{}
	for _, r := range old.Results {
		results[[2]string{r.Expectation, r.Class}] = r
	}
	p := Proof{Results: make([]Result, 0, len(old.Results))}
	names := make([]string, len(classes))
	for i, c := range classes {
		names[i] = c.Name()
	}
	about := aboutOf(classes)
	for i := range m.Plan.Expectations {
		e := &m.Plan.Expectations[i]
		for _, n := range about.of(e) {
			c := classes[n]
			r, known := results[[2]string{e.Name, names[n]}]
			switch {
			case !kept[n]:
				one := ProveOne(m, c, reaches[n], e)
				if one == nil {
					continue
				}
				r = *one
			case !known:
				continue // it was not concerned, and is not
			}
			if r.Outcome != Holds {
				p.Failed++
			}
			p.Results = append(p.Results, r)
		}
	}
	return p
}
