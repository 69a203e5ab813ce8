package ikev2

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/tunnel"
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

func (s *server) handleNATT(batch []datagram) {
	packets := make([]tunnel.Packet, 0, len(batch))
	for _, m := range batch {
		if p, ok := s.handleMessage(m.peer(true), m.data); ok {
			packets = append(packets, p)
		}
	}
	if len(packets) > 0 {
		s.host.Arrived(packets)
	}
}

// handleMessage tells IKE, ESP and keepalives apart (RFC 3948 §2.2). It gives the packet that was in ESP.
func (s *server) handleMessage(from ike.Peer, b []byte) (tunnel.Packet, bool) {
	switch {
	case len(b) == 1 && b[0] == 0xff:
	case len(b) < markerLen:
		s.dropped.short.Add(1)
	case binary.BigEndian.Uint32(b) == 0:
		s.handleIKE(from, b[markerLen:])
	default:
		return s.handleESP(from, b)
	}
	return tunnel.Packet{}, false
}

// mostHints is how many devices are told between two ticks that their ESP belongs to no session.
const mostHints = 4

func (s *server) sendHint(to ike.Peer, spi uint32) {
	hint := ike.UnknownSPI(rand.Reader, spi)
	if to.TCP {
		s.streams.send(to.Addr, make([]byte, markerLen), hint)
		return
	}
	s.Sockets.sendIKE(to, hint)
}

func (s *server) handleESP(from ike.Peer, b []byte) (tunnel.Packet, bool) {
	spi, ok := esp.SPIOf(b)
	if !ok {
		s.dropped.short.Add(1)
		return tunnel.Packet{}, false
	}
	found, ok := s.inbound.Load(spi)
	if !ok {
		if !s.early.keep(spi, from, b) {
			s.dropped.unknownSPI.Add(1)
			if s.hints.Add(1) <= mostHints { // it may be of before our own start
				s.sendHint(from, spi)
			}
		}
		return tunnel.Packet{}, false
	}
	a := found.(*association)
	inner, newest, err := a.opener.Open(b)
	switch err {
	case nil:
	case esp.ErrReplay:
		s.dropped.replayed.Add(1)
		return tunnel.Packet{}, false
	default:
		s.dropped.forged.Add(1)
		return tunnel.Packet{}, false
	}
	if a.waiting.Load() && a.waiting.Swap(false) {
		a.link.prefer(spi)
	}
	if !a.link.heard(from, time.Now(), newest, a.order) {
		s.dropped.elsewhere.Add(1)
		return tunnel.Packet{}, false
	}
	return tunnel.Packet{Session: a.link.session, Packet: inside.Packet{Buf: b, Off: cap(b) - cap(inner), Len: len(inner)}}, true
}
