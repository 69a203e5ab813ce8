package plan

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What only one side changed is taken, what nobody changed stays, and settling every conflict for one side leaves none.
func FuzzMerge(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nB\nc\n", "a\nb\nc\nd\n")
	f.Add("name: x\n", "name: y\n", "name: z\n")
	f.Fuzz(func(t *testing.T, base, ours, theirs string) {
		got, conflicts := Merge(base, ours, base)
		require.Equal(t, ours, got)
		require.Empty(t, conflicts)
		got, conflicts = Merge(base, base, theirs)
		require.Equal(t, theirs, got)
		require.Empty(t, conflicts)
		_, conflicts = Merge(base, ours, theirs)
		take := make([]string, len(conflicts))
		for i := range take {
			take[i] = "theirs"
		}
		_, left := Merge(base, ours, theirs, take...)
		require.Empty(t, left)
	})
}
