package service

import (
	"context"
	"net/http"
	"net/http/httptest"
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

// Only the machine's own names and those that it was told are answered, and only a proxy that it was told of is believed.
func TestHostNames(t *testing.T) {
	s := &Service{Config: Config{Names: []string{"lantern.tern.example"}}}
	var from netip.Addr
	h := s.own(s.located(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { from = source(r.Context()) })))
	ask := func(host, forwarded string) (int, string) {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "/", nil)
		r.Host, r.RemoteAddr = host, "127.0.0.1:4711"
		if forwarded != "" {
			r.Header.Set("X-Forwarded-For", forwarded)
		}
		w := httptest.NewRecorder()
		from = netip.Addr{}
		h.ServeHTTP(w, r)
		return w.Code, from.String()
	}
	for host, want := range map[string]int{
		"127.0.0.1:8600": 200, "[::1]:8600": 200, "localhost": 200, "Lantern.tern.example": 200, "lantern.tern.example.:443": 200,
		"evil.example": 421, "127.0.0.1.evil.example": 421, "192.0.2.10": 421, "": 421, "localhost.evil.example:8600": 421,
	} {
		code, _ := ask(host, "")
		require.Equal(t, want, code, host)
	}
	_, at := ask("localhost", "203.0.113.9, 203.0.113.45")
	require.Equal(t, "203.0.113.45", at, "what the proxy saw itself")
	s.Names = nil
	_, at = ask("localhost", "203.0.113.45")
	require.Equal(t, "127.0.0.1", at, "without a proxy nobody is believed")
}

// What goes on under a credential ends with it, at once, and nothing else does.
func TestCredentialsEnd(t *testing.T) {
	var c credentials
	one, doneOne := c.use(t.Context(), "a")
	two, doneTwo := c.use(t.Context(), "a")
	other, doneOther := c.use(t.Context(), "b")
	doneTwo()
	require.Error(t, two.Err())
	require.NoError(t, one.Err())
	c.end("a")
	require.Error(t, one.Err())
	require.NoError(t, other.Err())
	doneOne()
	doneOther()
	require.Empty(t, c.uses)
	require.True(t, strings.HasPrefix(one.Err().Error(), "context canceled"))
}
