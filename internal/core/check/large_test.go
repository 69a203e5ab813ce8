package check_test

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/testkit/bigplan"
)

// BenchmarkFindings makes all findings on generated plans, as after an edit.
func BenchmarkFindings(b *testing.B) {
	for _, n := range []int{1, 8} {
		if n > 1 && testing.Short() {
			break
		}
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

// BenchmarkFindingsOfText is what one edit costs: the document read, and all findings made on it, with 10,000 users.
func BenchmarkFindingsOfText(b *testing.B) {
	p, people := bigplan.Sound(10_000)
	text, err := bigplan.Text(p)
	if err != nil {
		b.Fatal(err)
	}
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			if _, err := plan.Read(text); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("find", func(b *testing.B) {
		doc, _ := plan.Read(text)
		for b.Loop() {
			check.Run(check.Input{Doc: doc, People: people})
		}
	})
}

// The families of checks can be asked at once and in any order: what is found, and where it stands, is the same.
func TestFamiliesInAnyOrder(t *testing.T) {
	p, people := bigplan.Make(bigplan.Size{Groups: 30, Destinations: 60, Rules: 200, Users: 60})
	in := check.Input{Doc: &plan.Document{Plan: *p}, People: people}
	want := check.Run(in)
	require.NotEmpty(t, want)
	for range 5 {
		w := check.Begin(in)
		var all sync.WaitGroup
		for _, i := range rand.Perm(w.Steps()) {
			all.Go(func() { w.Do(i) })
		}
		all.Wait()
		require.Equal(t, want, w.Findings())
	}
}
