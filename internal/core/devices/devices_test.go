package devices

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
)

// The page is made of what is here, and every word here is an algorithm.
func TestPlatforms(t *testing.T) {
	page, err := os.ReadFile("../../../docs/devices.md")
	require.NoError(t, err)
	require.True(t, Reference() == string(page), "docs/devices.md is stale: make docs")
	for _, p := range Platforms {
		require.NotEmpty(t, p.Source, p.Name)
		for _, set := range []algorithm.Set{p.Default, p.Able} {
			require.False(t, set.Empty(), p.Name)
			for _, k := range algorithm.Kinds {
				for _, w := range *set.Kind(k) {
					a, ok := algorithm.Named(k, w)
					require.True(t, ok && a.Name == w, "%s: %s", p.Name, w)
				}
			}
		}
		again, ok := Named(p.Word)
		require.True(t, ok)
		require.Equal(t, p.Name, again.Name)
	}
}
