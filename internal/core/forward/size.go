package forward

import (
	"sync"
	"time"

	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/site"
)

// What is kept of packets in parts until the rest has come (docs/semantics.md, "Fragments"), in octets.
const (
	partsEach   = 256 << 10 // of one session's device
	partsInside = 4 << 20   // of all that comes from inside
	partsMost   = 64 << 20  // of all sessions together
)

// Parts are what goes out of a result's packet, or of its answer: itself, or what it is cut into.
func (r Result) Parts(b []byte) [][]byte {
	if r.most == 0 {
		return [][]byte{b}
	}
	return packet.Cut(b, r.most, r.ident)
}

// Cut tells whether a result's packet goes on in parts.
func (r Result) Cut() bool { return r.most > 0 }

// fits tells whether a packet, or the parts that it came in, can go on by a link: whole, or in parts of at most so many octets. What may
// not be cut, or not further, and is too large cannot.
func (r *Result) fits(octets int, i packet.Info, came packet.Came, mtu int) bool {
	if came.Largest == 0 && octets <= mtu {
		return true
	}
	largest := came.Largest
	if largest == 0 {
		largest = octets
	}
	if i.DontFragment && largest > mtu {
		return false
	}
	r.most, r.ident = min(mtu, largest), came.Ident
	return true
}

// own cuts what the gateway itself says, an answer to a ping, as it fits a link. The parts are named by what was asked.
func (r *Result) own(b []byte, asked packet.Info, came packet.Came, mtu int) {
	asked.DontFragment = false
	if came.Ident == 0 {
		came.Ident = uint32(asked.Ident)
	}
	r.fits(len(b), asked, came, mtu)
}

// collect takes a part of a packet of the person's, and gives the packet when it is whole. The session is locked.
func (e *Engine) collect(s *attached, b []byte, i packet.Info, now time.Time) ([]byte, packet.Came) {
	kept, lost := s.parts.Kept(), s.parts.Lost()
	if e.partsKept.Load() > partsMost {
		s.Counters.Lost[site.Fragments]++
		return nil, packet.Came{}
	}
	s.parts.Room = partsEach
	whole, came := s.parts.Add(b, i, false, now)
	e.partsKept.Add(int64(s.parts.Kept() - kept))
	if lost = s.parts.Lost() - lost; lost > 0 {
		s.Counters.Lost[site.Fragments] += lost
	}
	return whole, came
}

// insideParts are the parts of packets from inside.
type insideParts struct {
	mu   sync.Mutex
	kept packet.Collector
}

// add takes a part from inside.
func (p *insideParts) add(b []byte, i packet.Info, outside bool, now time.Time) (whole []byte, came packet.Came, lost uint64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	was := p.kept.Lost()
	p.kept.Room = partsInside
	whole, came = p.kept.Add(b, i, outside, now)
	return whole, came, p.kept.Lost() - was
}

// collectInside takes a part of a packet from inside, and gives the packet when it is whole.
func (e *Engine) collectInside(b []byte, i packet.Info, outside bool, now time.Time) ([]byte, packet.Came) {
	whole, came, lost := e.fromParts.add(b, i, outside, now)
	for range lost {
		e.stray(site.Fragments)
	}
	return whole, came
}
