package probe

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
)

// A report that was handed in is believed for what it says was seen, and for nothing else: what was to be tried, what is expected, what is
// computed and the outcome are the service's own.
func TestAgain(t *testing.T) {
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	want := trial("records", "10.20.30.5", "archive", "tcp/80", true, true, Seen{}).Trial
	forbidden := trial("office", "10.20.0.20", "station", "tcp/80", false, false, Seen{}).Trial
	left := trial("nestcams", "10.20.30.7", "archive", "tcp/80", true, true, Seen{}).Trial
	o := Order{
		User: "rory.researcher", Class: "researchers", Revision: 3, Admitted: true, MTU: 1320,
		Trials: []reach.Trial{want, forbidden, left},
	}
	lie := forbidden
	lie.Want, lie.Computed, lie.Expectation = true, true, "mine"
	reached := saw(reason.Connected, reason.With{reason.Took: "3 ms"}).served()
	reached.Words = "what I like"
	handed := &Report{
		At: now.Add(time.Hour), User: "rory.researcher", Class: "wardens", Revision: 9, Connected: true, OK: true, Largest: 9000,
		Results: []Result{
			{Trial: want, Seen: reached, OK: true},
			{Trial: lie, Seen: reached, OK: true},
			{Trial: trial("made-up", "10.20.40.10", "turbine", "tcp/502", true, true, Seen{}).Trial, Seen: reached, OK: true},
		},
	}
	r := handed.Again(o, now)
	require.True(t, r.Handed)
	require.Equal(t, []any{"researchers", 3, now, 0}, []any{r.Class, r.Revision, r.At, r.Largest})
	require.False(t, r.OK, "what must not be reached was reached")
	require.Len(t, r.Results, 3, "what was not asked for is left out")
	require.True(t, r.Results[0].OK)
	require.Equal(t, "connected in 3 ms", r.Results[0].Seen.Words)
	require.Equal(t, forbidden, r.Results[1].Trial)
	require.False(t, r.Results[1].OK)
	require.True(t, r.Results[2].Untried, "what it has nothing of was not tried")

	handed.Connected, handed.Fault = false, reason.FaultSilent4500
	r = handed.Again(o, now)
	require.False(t, r.OK)
	require.Contains(t, r.Causes[0], "UDP 4500")
	require.Zero(t, r.Tried())
}

// Silence counts as kept out only after several times as long as an answer takes on the path.
func TestSilenceOnASlowPath(t *testing.T) {
	var p pace
	require.Equal(t, refuseTime, p.wait(refuseTime))
	p.answered(20 * time.Millisecond)
	require.Equal(t, edgeTime, p.wait(edgeTime))
	p.answered(1500 * time.Millisecond)
	p.answered(30 * time.Millisecond)
	require.Equal(t, 4500*time.Millisecond, p.wait(refuseTime))
	p.answered(time.Minute)
	require.Equal(t, 3*wantTime, p.wait(edgeTime), "a trial ends all the same")
}
