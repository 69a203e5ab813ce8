package reach_test

import (
	"fmt"
	"testing"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/bigplan"
)

// BenchmarkProof compiles and proves generated plans of one, two and four times the base size.
func BenchmarkProof(b *testing.B) {
	for _, n := range []int{1, 2, 4} {
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
