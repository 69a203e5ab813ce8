package people

import (
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/crowd"
)

// mostTrying is how many guesses of one name from one source wait for the one before them to be judged.
const mostTrying = 64

// Guesses slows down guesses of passwords, wherever they are made. It is safe for concurrent use; the zero value is ready.
type Guesses struct {
	mu     sync.Mutex
	guard  crowd.Guard
	trying map[trying]*turn
}

type trying struct {
	name   string
	source netip.Prefix
}

// turn is held while a guess is judged.
type turn struct {
	held  sync.Mutex
	users int
}

// Try has a guess judged, unless it must wait: then wait is how long, and judge is not called. Of one name from one source one guess after
// the other is judged, so that each knows what became of those before it: many at once are no way around waiting, and who logs in rightly
// with several devices at once is not slowed. After a guess that was judged wrong, next is how long the one after it has to wait.
func (g *Guesses) Try(name string, from netip.Addr, judge func() (right bool)) (wait, next time.Duration) {
	key := trying{name, crowd.Source(from)}
	g.mu.Lock()
	if g.trying == nil {
		g.trying = map[trying]*turn{}
	}
	t := g.trying[key]
	if t == nil {
		t = &turn{}
		g.trying[key] = t
	}
	if t.users >= mostTrying {
		g.mu.Unlock()
		return time.Second, 0
	}
	t.users++
	g.mu.Unlock()
	t.held.Lock()
	defer func() {
		t.held.Unlock()
		g.mu.Lock()
		defer g.mu.Unlock()
		if t.users--; t.users == 0 {
			delete(g.trying, key)
		}
	}()
	if wait := g.begin(name, from); wait > 0 {
		return wait, 0
	}
	right := judge()
	g.mu.Lock()
	defer g.mu.Unlock()
	if right {
		g.guard.Right(time.Now(), name, from)
		return 0, 0
	}
	return 0, g.guard.Wrong(time.Now(), name, from)
}

func (g *Guesses) begin(name string, from netip.Addr) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Begin(time.Now(), name, from)
}

// Waits tells how long a guess must wait that takes several messages, and is judged elsewhere.
func (g *Guesses) Waits(name string, from netip.Addr) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Waits(time.Now(), name, from)
}

// Judged says what became of it.
func (g *Guesses) Judged(name string, from netip.Addr, right bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := time.Now()
	if right {
		g.guard.Right(now, name, from)
	} else if g.guard.Begin(now, name, from) == 0 {
		g.guard.Wrong(now, name, from)
	}
}

// Slowed lists who had wrong guesses lately.
func (g *Guesses) Slowed() []crowd.Slowed {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Slowed(time.Now())
}

// Lift forgets what went wrong with a name, or from a source, or at all; it tells how many pairs that were.
func (g *Guesses) Lift(name string, from netip.Addr) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Lift(name, from)
}

// Changed gives up to some number of what changed since it was asked last, to be kept.
func (g *Guesses) Changed(most int) []crowd.Kept {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Changed(most)
}

// Restore takes what was kept, before anybody guesses.
func (g *Guesses) Restore(all []crowd.Kept) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.guard.Restore(time.Now(), all)
}
