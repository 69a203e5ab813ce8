package journal

import (
	"sync"

	"yellowlantern/internal/gateway"
)

// viewers hands lines to whoever looks on just now. The zero value is ready.
type viewers struct {
	mu      sync.Mutex
	viewers map[chan gateway.Event]bool
}

const viewerQueue = 64 // lines that wait for a slow viewer; more are left out for them

// Join gives lines as they are written, until it is left.
func (s *Service) Join() (lines <-chan gateway.Event, leave func()) {
	w := &s.viewers
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.viewers == nil {
		w.viewers = map[chan gateway.Event]bool{}
	}
	c := make(chan gateway.Event, viewerQueue)
	w.viewers[c] = true
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.viewers, c)
	}
}

func (w *viewers) tell(e gateway.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.viewers {
		select {
		case c <- e:
		default:
		}
	}
}
