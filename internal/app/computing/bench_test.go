package computing_test

import (
	"slices"
	"testing"
	"time"

	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/bigplan"
)

// BenchmarkCores works reach, proof, surplus and findings of a large plan out one step after the other and on every core, in turn, and
// tells how many times as fast that is.
func BenchmarkCores(b *testing.B) {
	size := bigplan.Base.Times(4)
	if testing.Short() {
		size = bigplan.Base
	}
	p, people := bigplan.Make(size)
	m, err := site.Compile(p, "gw")
	if err != nil {
		b.Fatal(err)
	}
	var d computing.Desk
	inTurn := func(s computing.Steps) {
		for i := range s.Steps() {
			s.Do(i)
		}
	}
	together := func(s computing.Steps) {
		if err := alone(b.Context(), &d, s); err != nil {
			b.Fatal(err)
		}
	}
	for _, x := range []struct {
		name  string
		begin func() computing.Steps
	}{
		{"proof", func() computing.Steps { return (*reach.Known)(nil).Begin(m, people) }},
		{"surplus", func() computing.Steps { return reach.Compute(m, people).Beyond() }},
		{"findings", func() computing.Steps {
			return check.Begin(check.Input{Doc: &plan.Document{Plan: *p}, People: people, Known: reach.Compute(m, people)})
		}},
	} {
		b.Run(x.name, func(b *testing.B) {
			var ratios []float64
			took := func(how func(computing.Steps)) float64 {
				steps := x.begin()
				begun := time.Now()
				how(steps)
				return float64(time.Since(begun))
			}
			for b.Loop() {
				for range 5 {
					ratios = append(ratios, took(inTurn)/took(together))
				}
			}
			slices.Sort(ratios)
			b.ReportMetric(ratios[len(ratios)/2], "times")
			b.ReportMetric(ratios[0], "least-times")
			b.ReportMetric(ratios[len(ratios)-1], "most-times")
		})
	}
}
