package kernel_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/testkit/island"
)

// What rules and chains refer to is there, and stands once.
func TestWhole(t *testing.T) {
	s := kernel.Of(island.Model(t).Wanted(), kernel.Links{
		Device: "yl0", Of: map[string]string{"station": "eth1", "internet": "eth0"}, Guard: true, Timeouts: true,
	})
	sets, chains := map[string]bool{"": true}, map[string]bool{}
	for _, x := range s.Table.Sets {
		require.False(t, sets[x.Name], x.Name)
		sets[x.Name] = true
	}
	for _, c := range s.Table.Chains {
		require.False(t, chains[c.Name], c.Name)
		chains[c.Name] = true
	}
	for _, c := range s.Table.Chains {
		for _, r := range c.Rules {
			require.True(t, sets[r.From], "%s: %s", c.Name, r.String())
			require.True(t, sets[r.To], "%s: %s", c.Name, r.String())
			require.True(t, r.Do != kernel.Jump || chains[r.Name], "%s: %s", c.Name, r.String())
		}
	}
}
