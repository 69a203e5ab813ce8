package access

import (
	"context"
	"net/netip"
	"sync"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/guard"
)

// Password checks cost memory and time on purpose. A few run at once; of the others each source has its turn, so that a flood from one
// place makes nobody else wait for more than their turn.
const (
	hashingAtOnce  = 2
	hashingWaiting = 8   // of one source
	hashingAll     = 256 // of all
)

// turns hands out the right to hash. The zero value is ready.
type turns struct {
	mu      sync.Mutex
	running int
	waiting int
	order   []netip.Prefix // sources that wait, the next first
	queues  map[netip.Prefix][]chan struct{}
}

// take waits for a turn, and gives what ends it. ok is false where too many of the source wait already, or the context ends.
func (t *turns) take(ctx context.Context, from netip.Addr) (done func(), ok bool) {
	key := crowd.Source(from)
	t.mu.Lock()
	if t.running < hashingAtOnce {
		t.running++
		t.mu.Unlock()
		return t.next, true
	}
	if t.queues == nil {
		t.queues = map[netip.Prefix][]chan struct{}{}
	}
	if len(t.queues[key]) >= hashingWaiting || t.waiting >= hashingAll {
		t.mu.Unlock()
		return nil, false
	}
	if len(t.queues[key]) == 0 {
		t.order = append(t.order, key)
	}
	c := make(chan struct{}, 1)
	t.queues[key] = append(t.queues[key], c)
	t.waiting++
	t.mu.Unlock()
	select {
	case <-c:
		return t.next, true
	case <-ctx.Done():
		guard.Go("access.take", func() { <-c; t.next() }) // its turn still comes, and passes
		return nil, false
	}
}

// next passes the turn on.
func (t *turns) next() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.order) == 0 {
		t.running--
		return
	}
	key := t.order[0]
	t.order = t.order[1:]
	q := t.queues[key]
	q[0] <- struct{}{}
	t.waiting--
	if t.queues[key] = q[1:]; len(q) == 1 {
		delete(t.queues, key)
		return
	}
	t.order = append(t.order, key)
}
