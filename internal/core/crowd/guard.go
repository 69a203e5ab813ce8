package crowd

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"
)

// How guesses are slowed. A name from a source is a pair.
const (
	firstWait    = time.Second // of a pair after its first wrong guess; twice as long after each further one
	longestWait  = 5 * time.Minute
	forgetAfter  = time.Hour // without a wrong guess
	manyNames    = 12        // names that went wrong from one source within forgetAfter: it is trying names rather than mistyping one
	manySources  = 12        // sources from which one name went wrong: somebody is after it
	harderWait   = 16 * time.Second
	knownFor     = 30 * 24 * time.Hour // how long a source from which somebody got in stays theirs
	mostPairs    = 1 << 14
	mostKnown    = 1 << 16
	mostAttempts = 24 // doublings that are counted
)

type pair struct {
	name   string
	source netip.Prefix
}

type guesses struct {
	wrong int
	last  time.Time
	until time.Time
	// before is what it was before the guess begun last.
	before struct {
		wrong       int
		last, until time.Time
	}
}

// Guard slows down guesses of passwords. A guess counts as wrong from the moment at which it is begun until it proves right, so that many
// at once are no way around it. The zero value is ready.
//
// Only the pair of a name and a source waits: who shares an address with a bad device, and who has a name that strangers try, goes on. A
// source that tries many names waits longer with each name that never got in from there, and so does every new source with a name
// that is being tried from many; but each pair has a first guess that nobody can take away.
type Guard struct {
	pairs map[pair]*guesses
	known map[pair]time.Time   // who got in from where, and when last
	names map[netip.Prefix]int // pairs of a source
	froms map[string]int       // pairs of a name
	// changed are pairs that changed since they were kept.
	changed map[pair]bool
	swept   time.Time
}

// Begin asks whether a guess may be judged now, and counts it as wrong until Right is called. wait is how long not, 0: now.
func (g *Guard) Begin(now time.Time, name string, from netip.Addr) (wait time.Duration) {
	g.begin(now)
	if now.Sub(g.swept) > forgetAfter/12 || len(g.pairs) >= mostPairs {
		g.sweep(now)
	}
	p := pair{name, Source(from)}
	had := g.pairs[p]
	if had != nil && now.Before(had.until) {
		return had.until.Sub(now)
	}
	if had == nil {
		had = &guesses{}
		g.count(p, had)
	} else if now.Sub(had.last) > forgetAfter {
		had.wrong = 0
	}
	had.before.wrong, had.before.last, had.before.until = had.wrong, had.last, had.until
	had.wrong++
	had.last = now
	delay := firstWait << min(had.wrong-1, mostAttempts)
	if at, ok := g.known[p]; !ok || now.Sub(at) > knownFor {
		if g.names[p.source] >= manyNames || g.froms[p.name] >= manySources {
			delay = max(delay, harderWait)
		}
	}
	had.until = now.Add(min(delay, longestWait))
	g.touched(p)
	return 0
}

// Waits tells how long a guess would have to wait, and counts nothing.
func (g *Guard) Waits(now time.Time, name string, from netip.Addr) time.Duration {
	if had := g.pairs[pair{name, Source(from)}]; had != nil && now.Before(had.until) {
		return had.until.Sub(now)
	}
	return 0
}

// Wrong says that the guess begun last was judged, and is wrong: the wait counts from then on.
func (g *Guard) Wrong(now time.Time, name string, from netip.Addr) (wait time.Duration) {
	p := pair{name, Source(from)}
	had := g.pairs[p]
	if had == nil {
		return 0
	}
	g.touched(p)
	had.until = now.Add(had.until.Sub(had.last))
	had.last = now
	return had.until.Sub(now)
}

// None says that the guess begun last was none: nobody could tell, or it made no difference. It is as if it had not been begun.
func (g *Guard) None(name string, from netip.Addr) {
	p := pair{name, Source(from)}
	had := g.pairs[p]
	switch {
	case had == nil:
	case had.before.wrong == 0:
		g.forget(p)
	default:
		had.wrong, had.last, had.until = had.before.wrong, had.before.last, had.before.until
		g.touched(p)
	}
}

// Knows tells whether somebody got in by a name from a source not long ago.
func (g *Guard) Knows(now time.Time, name string, from netip.Addr) bool {
	at, ok := g.known[pair{name, Source(from)}]
	return ok && now.Sub(at) <= knownFor
}

// Right says that the guess begun last was none: it was right.
func (g *Guard) Right(now time.Time, name string, from netip.Addr) {
	p := pair{name, Source(from)}
	g.forget(p)
	if len(g.known) >= mostKnown {
		dropOldest(g.known, func(at time.Time) time.Time { return at }, func(k pair) { delete(g.known, k) })
	}
	if g.known != nil {
		g.known[p] = now
		g.touched(p)
	}
}

func (g *Guard) forget(p pair) {
	if g.pairs[p] == nil {
		return
	}
	delete(g.pairs, p)
	g.touched(p)
	if g.names[p.source]--; g.names[p.source] <= 0 {
		delete(g.names, p.source)
	}
	if g.froms[p.name]--; g.froms[p.name] <= 0 {
		delete(g.froms, p.name)
	}
}

// sweep forgets what is old, and where there are too many all the same those that went wrong longest ago.
func (g *Guard) sweep(now time.Time) {
	g.swept = now
	for k, v := range g.pairs {
		if now.Sub(v.last) > forgetAfter {
			g.forget(k)
		}
	}
	if len(g.pairs) >= mostPairs {
		dropOldest(g.pairs, func(v *guesses) time.Time { return v.last }, g.forget)
	}
}

// dropOldest drops an eighth, so that it is seldom needed.
func dropOldest[V any](m map[pair]V, at func(V) time.Time, drop func(pair)) {
	keys := slices.SortedFunc(maps.Keys(m), func(a, b pair) int { return at(m[a]).Compare(at(m[b])) })
	for _, k := range keys[:len(keys)/8] {
		drop(k)
	}
}

// Slowed is a name from a source that has to wait.
type Slowed struct {
	Name   string       `json:"name"`
	Source netip.Prefix `json:"source" doc:"The address, or the /64 of IPv6, that the guesses come from."`
	Wrong  int          `json:"wrong" doc:"Wrong guesses."`
	Last   time.Time    `json:"last"`
	Until  time.Time    `json:"until" doc:"Before that no guess is judged."`
}

// Slowed lists who had wrong guesses lately, the newest first.
func (g *Guard) Slowed(now time.Time) []Slowed {
	out := []Slowed{}
	for k, v := range g.pairs {
		if now.Sub(v.last) <= forgetAfter {
			out = append(out, Slowed{k.name, k.source, v.wrong, v.last, v.until})
		}
	}
	slices.SortFunc(out, func(a, b Slowed) int {
		return cmp.Or(b.Last.Compare(a.Last), cmp.Compare(a.Name, b.Name), a.Source.Addr().Compare(b.Source.Addr()))
	})
	return out
}

// Lift forgets what went wrong with a name, or from a source; with both empty everything, of the names that whose takes (nil: all). It
// tells how many pairs that were.
func (g *Guard) Lift(name string, from netip.Addr, whose func(name string) bool) (n int) {
	for k := range g.pairs {
		if (whose == nil || whose(k.name)) && (name == "" || k.name == name) && (!from.IsValid() || k.source == Source(from)) {
			g.forget(k)
			n++
		}
	}
	return n
}
