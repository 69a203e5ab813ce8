package forward

import (
	"sync"
	"time"
)

const spoke = 5 // seconds

// wheel is when to look at flows again: each stands at the time at which it would be forgotten if nothing more came. So those that are due
// are found without looking at the others.
type wheel struct {
	mu  sync.Mutex
	due map[int64][]*flow // by spoke
}

func (w *wheel) add(f *flow, at time.Time) {
	k := at.Unix()/spoke + 1
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.due == nil {
		w.due = map[int64][]*flow{}
	}
	w.due[k] = append(w.due[k], f)
}

// take gives what is due, and forgets that it was.
func (w *wheel) take(now time.Time) (out []*flow) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for k, fs := range w.due {
		if k <= now.Unix()/spoke {
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
