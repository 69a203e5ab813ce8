package forward

import (
	"sync"
	"time"
)

const spoke = 5 * time.Second

// wheel is when to look at flows again: each stands at the time at which it would be forgotten if nothing more came. So those that are due
// are found without looking at the others.
type wheel struct {
	mu  sync.Mutex
	of  time.Time         // what spokes are counted from: a clock that is set meanwhile moves none of them
	due map[int64][]*flow // by spoke
}

// spokeOf is the spoke of a moment. w.mu is held.
func (w *wheel) spokeOf(t time.Time) int64 {
	if w.of.IsZero() {
		w.of, w.due = t, map[int64][]*flow{}
	}
	return int64(t.Sub(w.of) / spoke)
}

func (w *wheel) add(f *flow, at time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	k := w.spokeOf(at) + 1
	w.due[k] = append(w.due[k], f)
}

// take gives what is due, and forgets that it was.
func (w *wheel) take(now time.Time) (out []*flow) {
	w.mu.Lock()
	defer w.mu.Unlock()
	today := w.spokeOf(now)
	for k, fs := range w.due {
		if k <= today {
			out = append(out, fs...)
			delete(w.due, k)
		}
	}
	return out
}

// Tick forgets flows that have been silent for too long.
func (e *Engine) Tick(now time.Time) {
	for _, f := range e.wheel.take(now) {
		f.session.Lock()
		switch {
		case f.gone:
		case now.After(f.expires):
			e.forget(f)
		default:
			e.wheel.add(f, f.expires)
		}
		f.session.Unlock()
	}
}
