package trials

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/enrolled"
	"yellowlantern/internal/probe"
)

// A job goes to the probe that it is for, once; its report counts from that probe alone, while somebody waits; a call counts once; and who
// is revoked is turned away at once.
func TestDesk(t *testing.T) {
	d, now := &desk{}, time.Now()
	require.True(t, d.first("1", now))
	require.False(t, d.first("1", now.Add(enrolled.Apart)))
	require.True(t, d.first("1", now.Add(3*enrolled.Apart+time.Second)), "by then a call of that time is refused by its age")

	seen := make(chan probe.Report, 1)
	go func() {
		r, _ := d.have(t.Context(), &job{probe: "cove", Job: enrolled.Job{ID: "a"}})
		seen <- r
	}()
	short, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	require.Nil(t, d.take(short, "elsewhere"))
	require.Equal(t, "a", d.take(t.Context(), "cove").ID)
	_, connected := d.lastSeen("cove", now.Add(time.Hour))
	require.True(t, connected, "it tries something")
	require.Nil(t, d.take(short, "cove"), "it has it")
	require.False(t, d.hand("elsewhere", "a", probe.Report{}))
	require.False(t, d.hand("cove", "b", probe.Report{}))
	require.True(t, d.hand("cove", "a", probe.Report{Login: "ok"}))
	require.False(t, d.hand("cove", "a", probe.Report{}), "once")
	require.Equal(t, "ok", (<-seen).Login)

	left, gone := context.WithCancel(t.Context())
	gone()
	_, err := d.have(left, &job{probe: "cove", Job: enrolled.Job{ID: "c"}})
	require.ErrorContains(t, err, "before probe cove was done")
	require.False(t, d.hand("cove", "c", probe.Report{}), "nobody waits for it")

	turned := make(chan *enrolled.Job)
	go func() { turned <- d.take(t.Context(), "cove") }()
	require.Eventually(t, func() bool {
		_, connected := d.lastSeen("cove", now.Add(time.Hour))
		return connected
	}, 5*time.Second, time.Millisecond)
	d.turnAway("cove")
	require.Nil(t, <-turned)
}
