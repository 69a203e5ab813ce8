package access

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// However many come at once from one place, who comes from another waits for one turn or two, and no more than two hash at once.
func TestTurns(t *testing.T) {
	var q turns
	crowd, other := netip.MustParseAddr("198.51.100.66"), netip.MustParseAddr("203.0.113.45")
	var running, most, passed, refused atomic.Int32
	var wait sync.WaitGroup
	hash := func(from netip.Addr) {
		done, ok := q.take(t.Context(), from)
		if !ok {
			refused.Add(1)
			return
		}
		n := running.Add(1)
		for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
		}
		time.Sleep(5 * time.Millisecond)
		running.Add(-1)
		passed.Add(1)
		done()
	}
	for range 100 {
		wait.Go(func() { hash(crowd) })
	}
	require.Eventually(t, func() bool { return refused.Load() > 80 }, time.Second, time.Millisecond)
	before := passed.Load()
	hash(other)
	require.LessOrEqual(t, passed.Load()-before, int32(6), "the crowd went first no more than it had begun")
	wait.Wait()
	require.EqualValues(t, hashingAtOnce, most.Load())
	require.EqualValues(t, 101, passed.Load()+refused.Load())
	require.Zero(t, q.running+q.waiting+len(q.order)+len(q.queues))

	// Whoever leaves while waiting holds up nobody.
	first, _ := q.take(t.Context(), crowd)
	second, _ := q.take(t.Context(), crowd)
	ctx, leave := context.WithCancel(t.Context())
	leave()
	_, ok := q.take(ctx, crowd)
	require.False(t, ok)
	first()
	second()
	require.Eventually(t, func() bool { q.mu.Lock(); defer q.mu.Unlock(); return q.running == 0 }, time.Second, time.Millisecond)
}

// What goes on under a credential ends with it, at once, and nothing else does.
func TestCredentialsEnd(t *testing.T) {
	var c credentials
	begin := func(hash, administrator string) (context.Context, func()) {
		with, done, ok := c.begin(t.Context(), use{hash: hash, administrator: administrator}, c.version())
		require.True(t, ok)
		return with, done
	}
	one, doneOne := begin("a", "mara")
	two, doneTwo := begin("a", "mara")
	other, doneOther := begin("b", "mara")
	another, doneAnother := begin("c", "nils")
	doneTwo()
	require.Error(t, two.Err())
	require.NoError(t, one.Err())
	read := c.version() // somebody reads of credential b here
	c.end("a")
	require.Error(t, one.Err())
	require.NoError(t, other.Err())
	_, _, ok := c.begin(t.Context(), use{hash: "b"}, read)
	require.False(t, ok, "what was read may be no longer valid")
	c.endOf("mara")
	require.Error(t, other.Err())
	require.NoError(t, another.Err())
	doneOne()
	doneOther()
	doneAnother()
	require.Empty(t, c.uses)
	require.True(t, strings.HasPrefix(one.Err().Error(), "context canceled"))
}
