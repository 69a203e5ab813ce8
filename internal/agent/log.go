package agent

import (
	"context"
	"sync"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

// Kept is how many events wait to be taken; newer ones are left out, and counted.
const Kept = 1 << 16

// Log keeps events until they are acknowledged. The zero value is ready.
type Log struct {
	mu     sync.Mutex
	events []Event
	last   uint64
	left   uint64
	more   chan struct{} // closed when something comes; nil: nobody waits
}

// Line adds a line for the journal.
func (l *Log) Line(e gateway.Event) { l.add(Event{Line: &e}) }

// Over adds the end of a session.
func (l *Log) Over(s gateway.Session, why reason.Reason) { l.add(Event{Over: &Over{s, why}}) }

func (l *Log) add(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.events) >= Kept {
		l.left++
		return
	}
	l.last++
	e.Sequence = l.last
	l.events = append(l.events, e)
	if l.more != nil {
		close(l.more)
		l.more = nil
	}
}

// after forgets what is up to a sequence number, and gives the rest; nothing if the context ends before there is any.
func (l *Log) after(ctx context.Context, n uint64) []Event {
	for {
		l.mu.Lock()
		acknowledged := 0
		for acknowledged < len(l.events) && l.events[acknowledged].Sequence <= n {
			acknowledged++
		}
		l.events = l.events[acknowledged:]
		if len(l.events) > 0 {
			out := append([]Event{}, l.events...)
			l.mu.Unlock()
			return out
		}
		if l.more == nil {
			l.more = make(chan struct{})
		}
		more := l.more
		l.mu.Unlock()
		select {
		case <-more:
		case <-ctx.Done():
			return nil
		}
	}
}

func (l *Log) counted() (last, left uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last, l.left
}
