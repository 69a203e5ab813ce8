package commits

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/core/check"
)

// Each warning is accepted by its name, or with all that are not named: an answer does not list more than a thousand.
func TestAcceptingAll(t *testing.T) {
	c := plans.Checked{Findings: []check.Finding{
		{Code: "a", Path: "x", Severity: check.Warn}, {Code: "b", Path: "y", Severity: check.Warn}, {Code: "c", Path: "z", Severity: check.Note},
	}}
	named := plans.Acceptance{Finding: c.Findings[0].ID(), Reason: "its own"}
	all := plans.Acceptance{Finding: plans.AllFindings, Reason: "the others"}
	require.ErrorContains(t, refused(c, []plans.Acceptance{named}), c.Findings[1].ID())
	require.NoError(t, refused(c, []plans.Acceptance{all, named}))
	require.Equal(t, []plans.Acceptance{{Finding: "a@x", Reason: "its own"}, {Finding: "b@y", Reason: "the others"}},
		acceptedOf(c, []plans.Acceptance{all, named}), "each stays with the revision")
	stopped := plans.Checked{Findings: []check.Finding{{Code: "d", Path: "w", Severity: check.Stop}}}
	require.Error(t, refused(stopped, []plans.Acceptance{all}), "an error is not accepted")
}
