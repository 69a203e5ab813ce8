package reach

import (
	"reflect"
	"slices"
	"strings"
	"sync"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Work is a plan being computed, class by class. A class is a step of its own: whoever runs the work does as many at once as there are
// processors, tells how far it is, and leaves it where nobody waits any more; what was done stays done.
type Work struct {
	Model   *site.Model
	Classes []Class

	people []Person
	among  [][]int // of each class, the expectations that may be about it
	comp   *Computer
	old    *Known // what is taken over from; nil: nothing
	was    []int  // of each class, which of the old ones it is; -1: none that reaches the same
	kept   []bool // the results of expectations are what they were, too
	once   []sync.Once
	made   []made
	table  func() *Columns
}

// made is what was computed of one class.
type made struct {
	whole   bool // it was; otherwise a fault was in the way
	reach   Reach
	results []Result     // in the order of the expectations
	of      []int        // the expectation of each result
	wrong   netset.Addrs // destinations of which they lack what they must reach, or reach what they should not
	inward  bool         // there is something to say of what is opened towards their devices
	amiss   bool         // and it is not as it should be
}

// Begin prepares the computation of a model of which another version may be known: a class whose passage and rules are what they were, on
// the same ground, reaches what it did. k may be nil: nothing is known.
func (k *Known) Begin(m *site.Model, people []Person) *Work {
	w := &Work{Model: m, Classes: Classes(m, people), people: people, comp: NewComputer(m)}
	w.table = sync.OnceValue(func() *Columns { return columnsOf(m) })
	n := len(w.Classes)
	w.was, w.kept, w.once, w.made = make([]int, n), make([]bool, n), make([]sync.Once, n), make([]made, n)
	w.among = make([][]int, n)
	about := aboutOf(w.Classes)
	for i := range m.Plan.Expectations {
		for _, c := range about.of(&m.Plan.Expectations[i]) {
			w.among[c] = append(w.among[c], i)
		}
	}
	before, same := map[string]int{}, false
	if k != nil && k.Model.SameGround(m) {
		for i, c := range k.Classes {
			before[strings.Join(c.Groups, "\x00")] = i
		}
		w.old, same = k, reflect.DeepEqual(k.Model.Plan.Expectations, m.Plan.Expectations)
	}
	for i, c := range w.Classes {
		was, known := before[strings.Join(c.Groups, "\x00")]
		if w.was[i] = -1; known && k.Classes[was].SameAs(c.Class) {
			w.was[i], w.kept[i] = was, same && slices.Equal(k.Classes[was].Users, c.Users)
		}
	}
	return w
}

// People is how many people it is computed for.
func (w *Work) People() int { return len(w.people) }

// Steps is how many steps there are: one for each class.
func (w *Work) Steps() int { return len(w.Classes) }

// Do computes one class. It may be called for several at once, and again: who comes while another does it waits. A class at which it
// panicked is not computed, and is not taken for one that was.
func (w *Work) Do(i int) {
	w.once[i].Do(func() {
		x := w.make(i)
		x.whole = true
		w.made[i] = x
	})
	w.check(i)
}

func (w *Work) check(i int) {
	if !w.made[i].whole {
		panic("the reach of a class was not computed: " + strings.Join(w.Classes[i].Groups, " + "))
	}
}

func (w *Work) make(i int) made {
	if w.was[i] >= 0 && w.kept[i] {
		return w.old.made[w.was[i]]
	}
	var x made
	if w.was[i] >= 0 {
		x.reach = w.old.Reaches[w.was[i]]
	} else {
		x.reach = w.comp.Of(w.Classes[i].Class)
	}
	among := expectations(w.Model.Plan, w.among[i])
	for n, e := range among {
		if r := prove(w.Model, w.Classes[i], x.reach, e, among); r != nil {
			x.results, x.of = append(x.results, *r), append(x.of, w.among[i][n])
		}
	}
	if slices.ContainsFunc(x.results, func(r Result) bool { return r.Outcome != Holds }) {
		x.wrong = wrong(w.Model, w.Classes[i], x.reach, among)
	}
	x.inward, x.amiss = towards(w.Model, w.Classes[i], x.reach, among)
	return x
}

// Octets is about how much memory the outcome of a class takes, once it is done.
func (w *Work) Octets(i int) int64 {
	const slab, result = 80, 1500 // with what hangs on them
	n := len(w.made[i].wrong) + len(w.made[i].results)*result/slab
	for _, parts := range [][]Part{w.made[i].reach.Full, w.made[i].reach.Enforced, w.made[i].reach.InFull, w.made[i].reach.InEnforced} {
		for _, p := range parts {
			n += 1 + len(p.Traffic)
		}
	}
	return int64(n) * slab
}

// Columns are the board's destinations.
func (w *Work) Columns() *Columns { return w.table() }

// Known is the outcome, once every step is done.
func (w *Work) Known() *Known {
	k := &Known{
		Model: w.Model, Classes: w.Classes, people: w.people, made: w.made, among: w.among, table: w.table, Reaches: make([]Reach, len(w.made)),
	}
	k.wrong = sync.OnceValue(func() [][]int {
		out := make([][]int, len(k.made))
		for i := range k.made {
			out[i] = k.table().Touched(k.made[i].wrong)
		}
		return out
	})
	counts := make([]int, len(w.Model.Plan.Expectations)+1) // where the results of each expectation begin
	total := 0
	for i := range w.made {
		w.check(i)
		if k.Reaches[i] = w.made[i].reach; w.was[i] >= 0 {
			k.Reused++
		}
		for _, e := range w.made[i].of {
			counts[e+1]++
			total++
		}
	}
	for i := range counts[1:] {
		counts[i+1] += counts[i]
	}
	k.Proof.Results = make([]Result, total)
	for i := range w.made {
		for n, e := range w.made[i].of {
			r := w.made[i].results[n]
			k.Proof.Results[counts[e]] = r
			if counts[e]++; r.Outcome != Holds {
				k.Proof.Failed++
			}
		}
	}
	return k
}

// expectations are those of a plan with these numbers.
func expectations(p *plan.Plan, numbers []int) []*plan.Expectation {
	out := make([]*plan.Expectation, len(numbers))
	for i, n := range numbers {
		out[i] = &p.Expectations[n]
	}
	return out
}

// allOf are all expectations of a plan.
func allOf(p *plan.Plan) []*plan.Expectation {
	out := make([]*plan.Expectation, len(p.Expectations))
	for i := range out {
		out[i] = &p.Expectations[i]
	}
	return out
}
