package ikev2

import (
	"context"
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
			s.mu.Lock()
			if s.machine != nil {
				s.perform(s.machine.Handle(time.Now(), m.from, m.data))
			}
			s.mu.Unlock()
		case x := <-s.signs:
			s.mu.Lock()
			if s.machine != nil {
				for _, o := range s.machine.Heard(x.at, x.id, x.from) {
					if _, moved := o.(ike.Moved); !moved { // where the device is was noted when the packet came, and may be newer
						s.perform([]ike.Output{o})
					}
				}
			}
			s.mu.Unlock()
		}
	}
}
