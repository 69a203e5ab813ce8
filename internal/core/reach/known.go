package reach

import (
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
