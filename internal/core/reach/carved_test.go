package reach

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/testkit/island"
)

// What is expected of a network is not expected of the people's own addresses in a pool that is carved from it.
func TestCarvedIsNotAsked(t *testing.T) {
	const pool = `{name: staff, prefixes: [10.99.0.0/24, "fd00:99::/112"]}`
	m := island.Model(t, pool, `{name: staff, prefixes: [10.20.0.128/25, "fd00:20::9:0/112"], carved-from: station}`,
		"\nexpectations:\n", "\nexpectations:\n  - {name: all-of-it, must: reach, groups: [wardens], to: [station], services: [ping]}\n")
	p := Prove(m, []Person{{User: "wanda", Groups: []string{"wardens"}}})
	for _, r := range p.Results {
		require.Equal(t, Holds, r.Outcome, "%+v", r)
	}
	require.NotEmpty(t, p.Results)
}
