package gateway

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/testkit/island"
)

// A session's time is up for one reason at a time, in the words that the person in charge will read.
func TestTimeUp(t *testing.T) {
	m := island.Model(t)
	zone, err := time.LoadLocation("Atlantic/Reykjavik")
	require.NoError(t, err)
	g := &Gateway{engine: forward.New(m), model: m, zone: zone}
	since := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	s := &session{since: since, fwd: &forward.Session{
		Groups:    []string{"researchers"},
		Addresses: []netip.Addr{netip.MustParseAddr("10.99.0.1")},
	}}
	g.engine.Attach(s.fwd)
	s.lease = lease{passage: "research", limits: plan.Limits{Idle: plan.Duration(30 * time.Minute), Longest: plan.Duration(4 * time.Hour)}}
	at := func(after time.Duration) string { return g.timeUp(s, since.Add(after)).Words() }
	require.Empty(t, at(29*time.Minute))
	require.Equal(t, "its device sent nothing for 30m", at(30*time.Minute))
	ping := echo(netip.MustParseAddr("10.99.0.1"), netip.MustParseAddr("10.20.30.5"), 8, 7, 1)
	g.engine.FromTunnel(s.fwd, ping, since.Add(239*time.Minute))
	require.Empty(t, at(239*time.Minute))
	require.Equal(t, "it lasted 4h, the longest that passage research allows", at(4*time.Hour))

	s.lease.limits = plan.Limits{Hours: "day"}
	s.lease.hours = &plan.Hours{Name: "day", From: plan.Clock{Minutes: 8 * 60}, To: plan.Clock{Minutes: 18 * 60}}
	require.Empty(t, at(time.Hour))
	require.Equal(t, "the hours day are over", at(9*time.Hour))
	s.lease.hours = nil
	require.Equal(t, "the hours day are over", at(0), "hours that the plan does not have hold never")
}
