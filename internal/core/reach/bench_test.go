package reach_test

import (
	"fmt"
	"slices"
	"testing"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/bigplan"
)

// BenchmarkProof compiles and proves generated plans of one, four and sixteen times the base size.
func BenchmarkProof(b *testing.B) {
	for _, n := range []int{1, 4, 16} {
		if n > 1 && testing.Short() {
			break
		}
		size := bigplan.Base.Times(n)
		p, people := bigplan.Make(size)
		b.Run(fmt.Sprintf("groups=%d/destinations=%d/rules=%d", size.Groups, size.Destinations, size.Rules), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				m, err := site.Compile(p, "gw")
				if err != nil {
					b.Fatal(err)
				}
				if proof := reach.Prove(m, people); len(proof.Results) == 0 {
					b.Fatal("nothing was proved")
				}
			}
		})
	}
}

// BenchmarkAgain edits one rule of a plan that is known, and computes reach and proof again, and what is gained and lost: of everything,
// and of what changed.
func BenchmarkAgain(b *testing.B) {
	for _, n := range []int{1, 4} {
		size := bigplan.Base.Times(n)
		p, people := bigplan.Make(size)
		compile := func(p *plan.Plan) *site.Model {
			m, err := site.Compile(p, "gw")
			if err != nil {
				b.Fatal(err)
			}
			return m
		}
		known := reach.Compute(compile(p), people)
		edited := *p
		edited.Rules = slices.Clone(p.Rules)
		edited.Rules[7].Services = []string{"tcp/8443"}
		name := fmt.Sprintf("rules=%d", size.Rules)
		b.Run(name+"/whole", func(b *testing.B) {
			for b.Loop() {
				reach.ChangesBetween(known, reach.Compute(compile(&edited), people))
			}
		})
		b.Run(name+"/after-one-line", func(b *testing.B) {
			for b.Loop() {
				if after := known.Again(compile(&edited), people); after.Reused < len(after.Classes)/2 {
					b.Fatal("most was computed anew")
				} else if len(reach.ChangesBetween(known, after)) == 0 {
					b.Fatal("nobody gained or lost")
				}
			}
		})
	}
}
