package ikev2

import (
	"context"
	"slices"
	"time"

	"yellowlantern/internal/core/ike"
)

// message is an IKE message that came.
type message struct {
	from ike.Peer
	data []byte
}

// sign is a sign of life: ESP of a session that came from a peer.
type sign struct {
	at   time.Time
	id   ike.ID
	from ike.Peer
	// unproved is that little goes there until it is shown that the device receives it.
	unproved bool
}

// handleIKE hands a message to the goroutine that handles them: whoever reads a socket has packets to see to.
func (s *server) handleIKE(from ike.Peer, data []byte) {
	select {
	case s.messages <- message{from, append([]byte(nil), data...)}:
	default:
		s.late.Add(1)
	}
}

// converse handles IKE messages and signs of life, one after the other.
func (s *server) converse(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case m := <-s.messages:
			s.withMachine(func(l *ike.Listener) []ike.Output { return l.Handle(time.Now(), m.from, m.data) })
		case x := <-s.signs:
			s.withMachine(func(l *ike.Listener) []ike.Output {
				// Where the device is was noted when the packet came, and may be newer.
				return slices.DeleteFunc(l.Heard(x.at, x.id, x.from, x.unproved), func(o ike.Output) bool {
					_, moved := o.(ike.Moved)
					return moved
				})
			})
		}
	}
}

// withMachine lets the protocol machine do something, and performs what it wants done. A panic in either loses that message alone.
func (s *server) withMachine(do func(*ike.Listener) []ike.Output) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.machine != nil {
		s.perform(do(s.machine))
	}
}
