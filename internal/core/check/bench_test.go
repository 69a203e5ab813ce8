package check_test

import (
	"fmt"
	"testing"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/testkit/bigplan"
)

// BenchmarkFindings makes all findings on generated plans, as after an edit.
func BenchmarkFindings(b *testing.B) {
	for _, n := range []int{1, 2} {
		size := bigplan.Base.Times(n)
		p, people := bigplan.Make(size)
		b.Run(fmt.Sprintf("groups=%d/destinations=%d/rules=%d", size.Groups, size.Destinations, size.Rules), func(b *testing.B) {
			for b.Loop() {
				if len(check.Run(check.Input{Doc: &plan.Document{Plan: *p}, People: people})) == 0 {
					b.Fatal("nothing was found")
				}
			}
		})
	}
}
