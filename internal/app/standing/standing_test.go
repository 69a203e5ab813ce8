package standing

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// What keeps people out is wrong, and says what to do; a gateway that is not reached is not shown as one that answers; a clock that went
// back behind what is written down is found.
func TestPoints(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	s := &Service{Store: st, Clock: func() (time.Time, bool) { return now, true }}

	require.Equal(t, Wrong, s.plan(running.State{}).State)
	require.Equal(t, Right, s.plan(running.State{Newest: 2, Runs: 2}).State)
	broken := s.plan(running.State{Newest: 2, Runs: 1, Problem: "revision 2 cannot run"})
	require.Equal(t, Wrong, broken.State)
	require.NotEmpty(t, broken.Mend)

	with := func(why ...reason.Reason) running.Status {
		o := inside.Observed{Port: "linux"}
		for _, w := range why {
			o.Problems = append(o.Problems, inside.Told(w))
		}
		return running.Status{Status: gateway.Status{Inside: o}}
	}
	points := aboutInside(with())
	require.Len(t, points, 2)
	points = aboutInside(with(reason.Of(reason.GatewayNotReached, reason.With{reason.Error: "nothing answers"})))
	require.Len(t, points, 1, "nothing is right of a gateway that is not seen")
	require.Equal(t, "gateway", points[0].Name)
	require.Contains(t, points[0].Mend, "systemctl")
	points = aboutInside(with(reason.Of(reason.LinkDown, reason.With{reason.Link: "eth1", reason.Network: "station"})))
	require.Equal(t, []string{Right, Wrong}, []string{points[0].State, points[1].State})
	full := with()
	full.Inside.Machine, full.Waiting = &inside.Machine{Connections: 90, Most: 100}, waitingMost+1
	points = aboutInside(full)
	require.Len(t, points, 4)
	require.Contains(t, points[2].Mend, "nf_conntrack_max=200")
	require.Equal(t, "journal", points[3].Name)

	require.Equal(t, Right, s.clock(t.Context()).State)
	require.NoError(t, st.AddJournal(t.Context(), store.JournalEntry{At: now.Add(time.Hour), Kind: "login"}))
	back := s.clock(t.Context())
	require.Equal(t, Wrong, back.State)
	require.Contains(t, back.Words, "it went back")
	now = now.Add(2 * time.Hour)
	s.Clock = func() (time.Time, bool) { return now, false }
	require.Equal(t, Risky, s.clock(t.Context()).State)

	require.NotEqual(t, Wrong, s.disk().State)
}
