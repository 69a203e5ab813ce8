package gateway

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/session"
)

// A session's time is up for one reason at a time, in the words that the person in charge will read.
func TestTimeUp(t *testing.T) {
	g := idle(t)
	zone, err := time.LoadLocation("Atlantic/Reykjavik")
	require.NoError(t, err)
	since := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	s := &session.Session{ID: 1, Passage: "research", Groups: []string{"researchers"}, Since: since, LoggedIn: since}
	p := g.model.Class(s.Groups).Passage
	at := func(after time.Duration) string { return timeUp(g.model, zone, s, since.Add(after)).Words() }
	p.Limits = plan.Limits{Idle: plan.Duration(30 * time.Minute), Longest: plan.Duration(4 * time.Hour)}
	require.Empty(t, at(29*time.Minute))
	require.Equal(t, "its device sent nothing for 30m", at(30*time.Minute))
	s.LastIn = since.Add(239 * time.Minute)
	require.Empty(t, at(239*time.Minute))
	require.Equal(t, "it lasted 4h, the longest that passage research allows", at(4*time.Hour))

	p.Limits = plan.Limits{Hours: "day"}
	g.model.Names.Hours["day"] = &plan.Hours{Name: "day", From: plan.Clock{Minutes: 8 * 60}, To: plan.Clock{Minutes: 18 * 60}}
	require.Empty(t, at(time.Hour))
	require.Equal(t, "the hours day are over", at(9*time.Hour))
	delete(g.model.Names.Hours, "day")
	require.Equal(t, "the hours day are over", at(0), "hours that the plan does not have hold never")
}
