package ikev2

import (
	"crypto/rand"
	"encoding/binary"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/tunnel"
)

// inbox is what datagrams that came together need on their way to the gateway, kept from one batch to the next.
type inbox struct {
	packets []inside.Packet // of all runs
	runs    []tunnel.Run
	plain   [][]byte       // the same at a device
	found   []*association // of each datagram
	near    uint64         // of what was looked at: nothing reads it, but what is not written down is not looked at
}

// find finds the association of each datagram, and looks at what opening it will look at. Each of these steps waits for memory where each
// datagram is another session's; one after the other for all of them, the processor waits for many at once.
func (in *inbox) find(all *associations, batch []datagram) {
	in.found = in.found[:0]
	var last uint32
	var of *association
	for i := range batch {
		if spi, _ := esp.SPIOf(batch[i].data); spi != last {
			last, of = spi, all.find(spi)
		}
		in.found = append(in.found, of)
	}
	near := uint64(0)
	for _, a := range in.found {
		if a != nil {
			near += uint64(a.opener.SPI) + uint64(a.link.session.MTU)
		}
	}
	in.near = near
}

// done gives it back, without the sessions that were in it: what it has of buffers is theirs who read.
func (in *inbox) done() {
	clear(in.runs)
	clear(in.found)
	in.packets, in.runs, in.plain = in.packets[:0], in.runs[:0], in.plain[:0]
	inboxes.Put(in)
}

var inboxes = sync.Pool{New: func() any { return new(inbox) }}

// handleNATT tells IKE, ESP and keepalives apart (RFC 3948 §2.2), and hands on what was in ESP. What came by one association one after the
// other is opened together. It tells whether anything was.
func (s *server) handleNATT(batch []datagram) bool {
	in := inboxes.Get().(*inbox)
	now := time.Now()
	in.find(&s.inbound, batch)
	for found := in.found; len(batch) > 0; {
		d := batch[0]
		n := 1
		switch {
		case len(d.data) == 1 && d.data[0] == 0xff:
		case len(d.data) < markerLen:
			s.dropped.short.Add(1)
		case binary.BigEndian.Uint32(d.data) == 0:
			s.handleIKE(d.peer(true), d.data[markerLen:])
		default:
			if spi, ok := esp.SPIOf(d.data); ok {
				for found[0] != nil && n < len(batch) && found[n] == found[0] && batch[n].sameWay(&batch[n-1]) {
					n++
				}
				s.handleESP(in, batch[:n], found[0], spi, now)
			} else {
				s.dropped.short.Add(1)
			}
		}
		batch, found = batch[n:], found[n:]
	}
	some := len(in.runs) > 0
	if some {
		s.host.Arrived(in.runs)
	}
	in.done()
	return some
}

// sameWay tells whether a datagram came from where the one before it did, and to the same address.
func (d *datagram) sameWay(before *datagram) bool {
	return d.joined || d.from == before.from && d.local == before.local && d.tcp == before.tcp
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

// handleESP opens what came by one association from one place.
func (s *server) handleESP(in *inbox, batch []datagram, a *association, spi uint32, now time.Time) {
	from := batch[0].peer(true)
	if a == nil {
		for _, d := range batch {
			if !s.early.keep(spi, from, d.data) {
				s.dropped.unknownSPI.Add(1)
				if s.hints.Add(1) <= mostHints { // it may be of before our own start
					s.sendHint(from, spi)
				}
			}
		}
		return
	}
	packets, newest, not := in.open(a.opener, batch)
	if not != (esp.Unopened{}) {
		s.dropped.replayed.Add(uint64(not.Replayed))
		s.dropped.forged.Add(uint64(not.Forged))
	}
	if len(packets) == 0 {
		return
	}
	if a.waiting.Load() && a.waiting.Swap(false) {
		a.link.prefer(spi)
	}
	if !a.link.heard(from, now, newest, a.order) {
		s.dropped.elsewhere.Add(uint64(len(packets)))
		return
	}
	in.runs = append(in.runs, tunnel.Run{Session: a.link.session, Packets: packets})
}

// open opens what came by one association, and gives what was in it, and whether something of that is its newest.
func (in *inbox) open(by *esp.Opener, batch []datagram) (packets []inside.Packet, newest bool, not esp.Unopened) {
	begin := len(in.packets)
	in.packets = slices.Grow(in.packets, len(batch))[:begin+len(batch)]
	packets = in.packets[begin:]
	for i := range packets {
		packets[i] = inside.Bare(batch[i].data)
	}
	packets, newest, not = by.OpenAll(packets)
	in.packets = in.packets[:begin+len(packets)]
	return packets, newest, not
}
