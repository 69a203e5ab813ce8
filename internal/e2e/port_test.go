package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/report"
)

// Where nothing carries packets to the inside people could log in and would reach nothing: it is said wherever one looks, and nothing is
// green.
func TestNoInsidePort(t *testing.T) {
	i, err := instance.Start(t.Context(), options(t))
	require.NoError(t, err)
	t.Cleanup(i.Stop)
	require.NoError(t, i.App.Access.NameAdministrator(t.Context(), "admin", "a long enough password"))
	c := client.New(i.URL(), "")
	require.NoError(t, c.SignIn(t.Context(), "admin", "a long enough password", "test"))
	s, err := demo.Load("")
	require.NoError(t, err)
	for _, p := range s.People {
		require.NoError(t, i.People.Add(t.Context(), people.User{Name: p.User, Groups: p.Groups}, "a long enough password"))
	}
	_, err = i.App.Trust.Make(t.Context(), "gate", "gate.tern.example")
	require.NoError(t, err)
	require.NoError(t, c.Do(t.Context(), "PUT", "/drafts/x", map[string]any{"text": s.Plan, "version": 0}, nil))
	require.NoError(t, c.Do(t.Context(), "POST", "/drafts/x/commit", map[string]any{"message": "begins"}, nil))

	says := reason.Of(reason.NoInsidePort, nil).Words()
	status, err := client.Get[running.Status](t.Context(), c, "/status")
	require.NoError(t, err)
	require.Equal(t, 1, status.Runs)
	require.Empty(t, status.Inside.Port)
	require.Equal(t, reason.NoInsidePort, status.Inside.Problems[0].Code)
	board, err := client.Get[proofs.Board](t.Context(), c, "/board")
	require.NoError(t, err)
	require.False(t, board.Verdict.OK)
	require.Equal(t, []string{says}, board.Verdict.Troubles)
	r, err := client.Get[report.Report](t.Context(), c, "/report")
	require.NoError(t, err)
	require.False(t, r.OK)
	require.Equal(t, board.Verdict.Words, r.Verdict)
	order, err := client.Get[probe.Order](t.Context(), c, "/probes/order?user=rory.researcher")
	require.NoError(t, err)
	require.Equal(t, []string{says}, order.Trouble)
	var checked plans.Checked
	require.NoError(t, c.Do(t.Context(), "POST", "/check", map[string]any{"text": s.Plan}, &checked))
	require.Equal(t, string(reason.NoInsidePort), checked.Findings[len(checked.Findings)-1].Code)
	require.Equal(t, says, checked.Findings[len(checked.Findings)-1].Problem)
}
