package lab

import (
	"net/netip"
	"sync"

	"yellowlantern/internal/core/packet"
)

const queueLen = 1024

// node is a thing with addresses on a segment. Packets reach it one after another.
type node interface {
	receive(b []byte)
}

// segment is a link: whoever has an address on it gets what is sent there.
type segment struct {
	name     string
	prefixes []netip.Prefix
	mu       sync.RWMutex
	ports    map[netip.Addr]chan []byte
	answers  map[netip.Addr]chan []byte // who answers for addresses that are somebody else's
}

func (s *segment) holds(a netip.Addr) bool {
	for _, p := range s.prefixes {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// plug gives a node its addresses on the segment.
func (s *segment) plug(queue chan []byte, addrs ...netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range addrs {
		s.ports[a] = queue
	}
}

// send hands a packet to whoever has the address hop on the link. The octets are copied; a full queue loses it, as a
// link does.
func (s *segment) send(hop netip.Addr, b []byte) {
	s.mu.RLock()
	queue := s.ports[hop]
	if queue == nil {
		queue = s.answers[hop]
	}
	s.mu.RUnlock()
	if queue == nil {
		return
	}
	select {
	case queue <- append([]byte(nil), b...):
	default:
	}
}

// serve runs a node until the lab closes.
func (l *Lab) serve(n node) chan []byte {
	queue := make(chan []byte, queueLen)
	l.wait.Go("lab.serve", func() {
		for {
			select {
			case <-l.closed:
				return
			case b := <-queue:
				n.receive(b)
			}
		}
	})
	return queue
}

// router forwards by longest match. It is written for the lab alone: a second reading of how routers behave.
type router struct {
	own    map[netip.Addr]bool
	links  []*segment
	routes []Route
}

func (r *router) receive(b []byte) {
	info, err := packet.Parse(b)
	if err != nil || info.HopLimit <= 1 {
		return
	}
	if r.own[info.Dst] {
		if info.EchoRequest() {
			r.route(packet.EchoReply(b, info), info.Src)
		}
		return
	}
	packet.DecrementHopLimit(b)
	r.route(b, info.Dst)
}

func (r *router) route(b []byte, dst netip.Addr) {
	for _, l := range r.links {
		if l.holds(dst) {
			l.send(dst, b)
			return
		}
	}
	best := Route{}
	for _, route := range r.routes {
		if route.To.Contains(dst) && (!best.To.IsValid() || route.To.Bits() > best.To.Bits()) {
			best = route
		}
	}
	if best.To.IsValid() {
		for _, l := range r.links {
			if l.holds(best.Via) {
				l.send(best.Via, b)
				return
			}
		}
	}
}
