package reach

import (
	"slices"

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
	made   []made // of each class
	among  [][]int
	table  func() *Columns
	wrong  func() [][]int
}

// People are those whom it was computed for.
func (k *Known) People() []Person { return k.people }

// Somebody leads from a person to their reach, and is the only way to it: to the class of everybody in the same groups, among those that
// were computed, or computed now, where nobody like them was known.
func (k *Known) Somebody(p Person) (in *Known, class int) {
	groups := slices.Compact(slices.Sorted(slices.Values(p.Groups)))
	same := func(c Class) bool { return slices.Equal(c.Groups, groups) }
	if i := slices.IndexFunc(k.Classes, same); i >= 0 {
		return k, i
	}
	in = Compute(k.Model, []Person{p})
	return in, slices.IndexFunc(in.Classes, same)
}

// Named leads from the name of one of the people to the same; ok is false where nobody of them is called that.
func (k *Known) Named(user string) (class int, ok bool) {
	for i, c := range k.Classes {
		if slices.Contains(c.Users, user) {
			return i, true
		}
	}
	return 0, false
}

// Reached is a destination with what is reached there, and what the gateway lets through, as the board has them (Cell).
type Reached struct{ To, Services, Passes string }

// Reached is what a class reaches, and what it gets through to.
func (k *Known) Reached(class int) (out []Reached) {
	to := k.Columns().Destinations
	for i, c := range k.Row(class, to).Cells {
		if c.Computed != "" || c.Passes != "" {
			out = append(out, Reached{to[i].Name, c.Computed, c.Passes})
		}
	}
	return out
}

// Compute works out everything of a model.
func Compute(m *site.Model, people []Person) *Known { return (*Known)(nil).Again(m, people) }

// Again works out a model of which another version is known, as Begin has it, one class after the other.
func (k *Known) Again(m *site.Model, people []Person) *Known {
	w := k.Begin(m, people)
	for i := range w.Steps() {
		w.Do(i)
	}
	return w.Known()
}
