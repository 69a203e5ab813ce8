package plans

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/core/plan"
)

// A first plan is summed up by who comes in how, and reaches what, whether or not anybody is in a group yet.
func TestComesIn(t *testing.T) {
	island, err := demo.Load("")
	require.NoError(t, err)
	doc, err := plan.Read(island.Plan)
	require.NoError(t, err)
	m, err := compiled.Model(&doc.Plan)
	require.NoError(t, err)
	all := comesIn(m)
	require.Len(t, all, 4)
	c := all[2]
	require.Equal(t, []string{
		"volunteers", "volunteers", "main", "guests (10.99.1.0/26)", "10.20.0.53 for tern.example",
		"names, nestcams",
	},
		[]string{c.Group, c.Passage, c.By, c.Addresses, c.Names, c.Routes})
	var words []string
	for _, l := range c.Reaches {
		words = append(words, l.String())
	}
	require.Equal(t, "ping, tcp/53, udp/53 at names (10.20.0.53); tcp/80, tcp/443 at nestcams", strings.Join(words, "; "))

	doc.Plan.Passages[2].Off = true
	m, err = compiled.Model(&doc.Plan)
	require.NoError(t, err)
	require.Len(t, comesIn(m), 3, "who does not come in is not told of")
}
