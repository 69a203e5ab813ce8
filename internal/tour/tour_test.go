package tour

import (
	"io"
	"log/slog"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/check"
)

// Tern Island is right, as computed and as tried. Each mistake in the plan is found before anybody connects; each
// mistake in the site passes every check and the proof, and only the probe finds it and says where.
func TestTour(t *testing.T) {
	for _, mistake := range append([]string{""}, demo.Mistakes()...) {
		t.Run(mistake, func(t *testing.T) {
			t.Parallel()
			o, err := Run(t.Context(), mistake, slog.New(slog.NewTextHandler(io.Discard, nil)), func(string) {})
			require.NoError(t, err)
			if mistake == "" {
				require.True(t, o.OK, "%+v", o)
				require.True(t, o.Ended)
				require.Len(t, o.Sessions, 1)
				require.Equal(t, 1, o.Revision)
				require.Zero(t, check.Count(o.Findings, check.Warn))
				return
			}
			s, err := demo.Load(mistake)
			require.NoError(t, err)
			require.False(t, o.OK)
			if s.Mistake.In == "plan" {
				require.Zero(t, o.Revision, "a refused plan never becomes a revision")
				require.NotEmpty(t, o.Refused)
				require.True(t, slices.ContainsFunc(o.Findings,
					func(f check.Finding) bool { return f.Severity == check.Stop && f.Code == s.Mistake.Expect }), "%v", o.Findings)
				return
			}
			require.Equal(t, 1, o.Revision, "every check passes")
			require.True(t, o.ProofOK)
			require.True(t, o.Different)
			causes := ""
			for _, r := range o.Probes {
				causes += strings.Join(r.Causes, "\n")
			}
			require.Contains(t, causes, s.Mistake.Expect)
		})
	}
	require.GreaterOrEqual(t, len(demo.Mistakes()), 7)
	_, err := demo.Load("nothing-like-it")
	require.ErrorContains(t, err, "there are")
}
