package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
)

// wire carries every call of an agent as JSON, there and back, while it is whole. What it carried is counted by the replies that arrived.
type wire struct {
	cut  atomic.Bool
	lost atomic.Int32 // replies with events that were lost on their way back
}

func (w *wire) between(a agent.Agent) agent.Agent {
	return agent.Remote{Stream: a.Record, Do: func(ctx context.Context, c agent.Call) (out agent.Reply, err error) {
		if w.cut.Load() {
			return out, errors.New("the wire is cut")
		}
		there, err := json.Marshal(c)
		if err != nil {
			return out, err
		}
		var call agent.Call
		if err := json.Unmarshal(there, &call); err != nil {
			return out, err
		}
		back, err := json.Marshal(agent.Serve(ctx, a, call))
		if err != nil {
			return out, err
		}
		if w.cut.Load() {
			if c.Events != nil {
				w.lost.Add(1)
			}
			return out, errors.New("the wire was cut meanwhile")
		}
		return out, json.Unmarshal(back, &out)
	}}
}

// The whole service works over a wire to its gateway: what is handed over, observed, asked and told are values. While the wire is cut
// nothing is shown as right, sessions go on, and afterwards every event is in the journal, once, in order.
func TestAgentOverAWire(t *testing.T) {
	w, o := &wire{}, options(t)
	o.Wire = w.between
	d, err := tour.Prepare(t.Context(), "", o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	_, number, err := d.Commit(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, number)

	tn := connect(t, d, "wanda.warden")
	require.NoError(t, ping(t, tn, "10.20.0.20"))
	sessions, err := client.Get[[]watching.LiveSession](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	require.Len(t, sessions, 1)
	require.Equal(t, "wanda.warden", sessions[0].User)
	flows, err := client.Get[[]forward.Flow](t.Context(), d.Client, "/flows?user=wanda.warden")
	require.NoError(t, err)
	require.NotEmpty(t, flows)

	// A commit says whose session it ends by what their device was told, which came by the wire as well; others go on.
	text := strings.Replace(d.Scenario.Plan, "services: [web, files, ping]}", "services: [web, files]}", 1)
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/shut", map[string]any{"text": text, "version": 0}, nil))
	review, err := client.Get[plans.Review](t.Context(), d.Client, "/drafts/shut/review")
	require.NoError(t, err)
	require.Empty(t, review.Ends)
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/shut/commit", map[string]any{"message": "shut"}, nil))
	require.Error(t, ping(t, tn, "10.20.0.20"), "it runs at once")
	require.NoError(t, tn.Ended())

	five := []*probe.Tunnel{}
	for range 5 {
		five = append(five, connect(t, d, "wanda.warden"))
	}
	at, as := home(t, d), order(t, d, "rory.researcher")
	w.cut.Store(true)
	status, err := client.Get[running.Status](t.Context(), d.Client, "/status")
	require.NoError(t, err)
	require.Len(t, status.Inside.Problems, 1)
	require.Contains(t, status.Inside.Problems[0].Words, "the gateway is not reached")
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/open", map[string]any{"text": d.Scenario.Plan, "version": 0}, nil))
	require.ErrorContains(t, d.Client.Do(t.Context(), "POST", "/drafts/open/commit", map[string]any{"message": "open"}, nil),
		"nothing was changed")
	for _, x := range five { // the gateway tells of them, and nobody hears it yet
		x.Close()
	}
	late := make(chan error)
	go func() { // who logs in meanwhile waits for somebody who knows them
		x, err := probe.Open(t.Context(), at, as, probe.Options{Password: d.Passwords["rory.researcher"]})
		if err == nil {
			defer x.Close()
		}
		late <- err
	}()
	time.Sleep(time.Second)
	require.Empty(t, late)
	w.cut.Store(false)
	require.NoError(t, <-late)
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/open/commit", map[string]any{"message": "open"}, nil))
	require.NoError(t, ping(t, tn, "10.20.0.20"))
	require.Eventually(t, func() bool { return len(lines(t, d, "ended")) == 6 }, 10*time.Second, 50*time.Millisecond, "each end once")
	require.NotZero(t, w.lost.Load(), "events were on their way back when the wire was cut: they were asked for again")
	past, err := client.Get[[]watching.PastSession](t.Context(), d.Client, "/sessions/past")
	require.NoError(t, err)
	require.Len(t, past, 6)
	ends := lines(t, d, "ended")
	require.True(t, slices.IsSortedFunc(ends, func(a, b gateway.Event) int { return b.Time.Compare(a.Time) }), "in order, the newest first")
}

func lines(t *testing.T, d *tour.Demo, kind string) []gateway.Event {
	out, err := client.Get[[]gateway.Event](t.Context(), d.Client, "/journal?kind="+kind)
	require.NoError(t, err)
	return out
}
