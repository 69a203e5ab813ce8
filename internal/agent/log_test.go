package agent

import (
	"context"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

// Events are kept until they are acknowledged, in order, each with its number; what is more than is kept is counted, not numbered.
func TestLog(t *testing.T) {
	l := &Log{}
	got := make(chan []Event)
	go func() { got <- l.after(t.Context(), 0) }()
	time.Sleep(5 * time.Millisecond)
	l.Line(gateway.Event{User: "0"})
	require.Len(t, <-got, 1, "whoever waits is woken")

	for i := range Kept + 10 {
		l.Line(gateway.Event{User: strconv.Itoa(i + 1)})
	}
	all := l.after(t.Context(), 0)
	require.Len(t, all, Kept)
	for i, e := range all {
		require.Equal(t, uint64(i+1), e.Sequence)
		require.Equal(t, strconv.Itoa(i), e.Line.User)
	}
	last, left := l.counted()
	require.Equal(t, uint64(Kept), last)
	require.Equal(t, uint64(11), left)

	require.Len(t, l.after(t.Context(), 10), Kept-10)
	require.Len(t, l.after(t.Context(), 5), Kept-10, "what is acknowledged is gone")
	l.Over(gateway.Session{User: "late"}, reason.Of(reason.TrialOver, nil))
	tail := l.after(t.Context(), uint64(Kept))
	require.Len(t, tail, 1)
	require.Equal(t, uint64(Kept+1), tail[0].Sequence)
	require.Equal(t, "late", tail[0].Over.Session.User)

	ended, end := context.WithCancel(t.Context())
	end()
	require.Empty(t, l.after(ended, uint64(Kept+1)), "nobody waits for ever")
}
