package people

import (
	"crypto/sha256"
	"net"
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/login"
)

// mostTrying is how many guesses of one name from one source wait for the one before them to be judged.
const mostTrying = 64

// Guesses slows down guesses of passwords, wherever they are made. It is safe for concurrent use; the zero value is ready.
type Guesses struct {
	mu     sync.Mutex
	guard  crowd.Guard
	trying map[trying]*turn
	clock  func() time.Time // nil: the system's
}

func (g *Guesses) now() time.Time {
	if g.clock != nil {
		return g.clock()
	}
	return time.Now()
}

type trying struct {
	name   string
	source netip.Prefix
}

// Verdict is what came of a guess.
type Verdict int

// Verdicts.
const (
	WrongGuess Verdict = iota
	RightGuess
	NoGuess // nobody could tell, or what was guessed made no difference
)

// Guessed is the verdict on what was right or wrong.
func Guessed(right bool) Verdict {
	if right {
		return RightGuess
	}
	return WrongGuess
}

// turn is held while a guess is judged.
type turn struct {
	held  sync.Mutex
	users int
}

// Try has a guess judged, unless it must wait: then wait is how long, and judge is not called. Of one name from one source one guess after
// the other is judged, so that each knows what became of those before it: many at once are no way around waiting, and who logs in rightly
// with several devices at once is not slowed. After a guess that was judged wrong, next is how long the one after it has to wait.
func (g *Guesses) Try(name string, from netip.Addr, judge func() Verdict) (wait, next time.Duration) {
	name = fold.Name(name)
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
	verdict := judge()
	g.mu.Lock()
	defer g.mu.Unlock()
	switch verdict {
	case RightGuess:
		g.guard.Right(g.now(), name, from)
	case NoGuess:
		g.guard.None(name, from)
	default:
		return 0, g.guard.Wrong(g.now(), name, from)
	}
	return 0, 0
}

func (g *Guesses) begin(name string, from netip.Addr) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Begin(g.now(), name, from)
}

// Waits tells how long a guess must wait that takes several messages, and is judged elsewhere.
func (g *Guesses) Waits(name string, from netip.Addr) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Waits(g.now(), fold.Name(name), from)
}

// Knows tells whether somebody got in by a name from there not long ago.
func (g *Guesses) Knows(name string, from netip.Addr) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Knows(g.now(), fold.Name(name), from)
}

// Judged says what became of it.
func (g *Guesses) Judged(name string, from netip.Addr, v Verdict) {
	name = fold.Name(name)
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.now()
	switch {
	case v == RightGuess:
		g.guard.Right(now, name, from)
	case v == WrongGuess && g.guard.Begin(now, name, from) == 0:
		g.guard.Wrong(now, name, from)
	}
}

// Station is where guesses come from that a device makes by equipment which says which device it is (Calling-Station-Id, RFC 2865 §5.31):
// an address that stands for the device. Of one that is written as a MAC address it shows that.
func Station(id string) netip.Addr {
	out := [16]byte{1} // 100::/8, which nobody has
	if mac, err := net.ParseMAC(id); err == nil && len(mac) == 6 {
		copy(out[2:], mac)
		return netip.AddrFrom16(out)
	}
	sum := sha256.Sum256([]byte(fold.Name(id)))
	copy(out[1:8], sum[:])
	return netip.AddrFrom16(out)
}

// guess has a guess of somebody's password judged, unless it must wait, and tells for how long: then nothing of what was judged counts. It
// is counted by the name and by whoever the name turned out to be. A device behind equipment is counted by itself, so that a stranger there
// keeps nobody out who came in by their device before; one that never came in, which may call itself anything, with the equipment too.
func (p *People) guess(name string, call login.Call, judge func() (person string, v Verdict)) (wait time.Duration) {
	at, with := call.From, netip.Addr{}
	if call.Station != "" {
		if at = Station(call.Station); !p.Guesses.Knows(name, at) {
			with = call.From
			if wait := p.Guesses.Waits(name, with); wait > 0 {
				return wait
			}
		}
	}
	var person string
	var theirs time.Duration
	wait, _ = p.Guesses.Try(name, at, func() (v Verdict) {
		if person, v = judge(); person != "" && !fold.Same(person, name) {
			if theirs = p.Guesses.Waits(person, at); theirs > 0 {
				return NoGuess
			}
			p.Guesses.Judged(person, at, v)
		}
		if with.IsValid() {
			p.Guesses.Judged(name, with, v)
		}
		return v
	})
	return max(wait, theirs)
}

// Slowed lists who had wrong guesses lately.
func (g *Guesses) Slowed() []crowd.Slowed {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Slowed(g.now())
}

// Lift forgets what went wrong with a name, or from a source, or at all, of the names that whose takes (nil: all); it tells how many pairs
// that were.
func (g *Guesses) Lift(name string, from netip.Addr, whose func(name string) bool) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.guard.Lift(fold.Name(name), from, whose)
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
	g.guard.Restore(g.now(), all)
}
