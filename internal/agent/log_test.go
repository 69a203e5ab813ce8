package agent

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

// Events are kept until they are acknowledged, in order, each with its number; what is more than is kept is counted, not numbered.
func TestLog(t *testing.T) {
	l := NewLog()
	from := func(n int) Mark { return Mark{l.name, uint64(n)} }
	got := make(chan Events)
	go func() { got <- l.after(t.Context(), from(0)) }()
	time.Sleep(5 * time.Millisecond)
	l.Line(gateway.Event{User: "0"})
	require.Len(t, (<-got).Events, 1, "whoever waits is woken")

	for i := range Kept + 10 {
		l.Line(gateway.Event{User: strconv.Itoa(i + 1)})
	}
	all := l.after(t.Context(), from(0)).Events
	require.Len(t, all, Kept)
	for i, e := range all {
		require.Equal(t, uint64(i+1), e.Sequence)
		require.Equal(t, strconv.Itoa(i), e.Line.User)
	}
	last, _, left := l.counted()
	require.Equal(t, uint64(Kept), last)
	require.Equal(t, uint64(11), left)

	require.Len(t, l.after(t.Context(), from(10)).Events, Kept-10)
	require.Len(t, l.after(t.Context(), from(5)).Events, Kept-10, "what is acknowledged is gone")
	require.Len(t, l.after(t.Context(), Mark{"another", 1 << 40}).Events, Kept-10, "another log's numbers say nothing of this one's")
	l.Over(gateway.Session{User: "late"}, reason.Of(reason.TrialOver, nil))
	tail := l.after(t.Context(), from(Kept)).Events
	require.Len(t, tail, 1)
	require.Equal(t, uint64(Kept+1), tail[0].Sequence)
	require.Equal(t, "late", tail[0].Over.Session.User)

	ended, end := context.WithCancel(t.Context())
	end()
	require.Empty(t, l.after(ended, from(Kept+1)).Events, "nobody waits for ever")
}

// A log in a file goes on where it was, however the process ended: nothing of it is lost, and no number is given twice. It is not larger
// than it may be.
func TestLogOnDisk(t *testing.T) {
	path := filepath.Join(t.TempDir(), "events")
	open := func() *Log {
		l, err := OpenLog(path)
		require.NoError(t, err)
		t.Cleanup(l.Close)
		return l
	}
	users := func(l *Log, after int) (out []string) {
		now, stop := context.WithCancel(t.Context())
		stop()
		for _, e := range l.after(now, Mark{l.name, uint64(after)}).Events {
			out = append(out, e.Line.User)
		}
		return out
	}
	l := open()
	for i := range 5 {
		l.Line(gateway.Event{User: strconv.Itoa(i + 1)})
	}
	require.Equal(t, []string{"3", "4", "5"}, users(l, 2))
	again := open() // the first one was killed
	require.Equal(t, l.name, again.name)
	require.Equal(t, []string{"3", "4", "5"}, users(again, 2), "by the mark of whoever took them")
	again.Line(gateway.Event{User: "6"})
	last, _, _ := again.counted()
	require.EqualValues(t, 6, last)

	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString(`{"sequence":7,"line":{"us`) // killed in the middle of a line
	require.NoError(t, err)
	require.NoError(t, f.Close())
	torn := open()
	torn.Line(gateway.Event{User: "7"})
	require.Equal(t, []string{"6", "7"}, users(open(), 5))

	full := open()
	long := strings.Repeat("x", 1<<20)
	for range 40 {
		full.Line(gateway.Event{User: long})
	}
	_, _, left := full.counted()
	require.Greater(t, left, uint64(5))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.LessOrEqual(t, info.Size(), int64(KeptOctets+1<<10))
	last, _, _ = full.counted()
	require.Empty(t, users(full, int(last)))
	info, err = os.Stat(path)
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(1<<10), "room for those to come")
	_, _, kept := open().counted()
	require.Equal(t, left, kept, "what was left out is known still")

	require.NoError(t, os.WriteFile(path, []byte("nothing of ours\n"), 0o600))
	require.Empty(t, users(open(), 0))
}
