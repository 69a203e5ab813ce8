package ike

import (
	"bytes"
	"crypto/sha1"
	"io"
	"net/netip"
	"time"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/reason"
)

// cookie2Len is how many octets try a way: 8 to 64 may be (RFC 4555 §4.2.5).
const cookie2Len = 16

// prove tries, where it is not shown yet, whether the peer receives what goes to where it was heard from (RFC 4555 §3.7): whoever copies or
// delays packets of a device, and a device that writes another's address as its own, would otherwise turn all of its traffic to somebody
// else. A peer that knows nothing of that returns no cookie, and its answer alone counts: it is authentic, so that no third one made it.
// What was asked at one place and answered after a move shows nothing, for it was repeated to the other place.
func (b *bond) prove(now time.Time) {
	if !b.unproved || b.trying || b.over {
		return
	}
	b.trying = true
	var cookie []byte
	var asked uint64
	b.cur.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) {
		cookie, asked = make([]byte, cookie2Len), b.moves
		_, _ = io.ReadFull(b.rand, cookie)
		return []payload{notify{kind: nCookie2, data: cookie}.payload()}, true
	}, answered: func(now time.Time, m *message) {
		b.trying = false
		data, has := m.notified(nCookie2)
		switch {
		case has && !bytes.Equal(data, cookie), !has && b.tellsMoves:
			b.end(now, reason.Of(reason.WayUnproved, reason.With{reason.Address: b.at(b.peer).String()}))
		case asked == b.moves:
			b.unproved = false
			b.emit(Proved{b.id, b.peer})
		}
	}, dropped: func() { b.trying = false }})
}

// Move tells the gateway that this device is at another address now, from which everything comes from now on (RFC 4555 §3.5): Arrived says
// that it has heard. ok is false where there is no session, or the gateway follows nobody.
func (i *Initiator) Move(now time.Time, local netip.AddrPort) (outs []Output, ok bool) {
	if i.phase != phUp || !i.moves || i.b.over {
		return nil, false
	}
	i.c.Local = local
	s := i.b.cur
	if s.win.out != nil { // what is under way went from where this device is no longer
		s.win.retryAt = now
	}
	s.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) {
		return []payload{
			notify{kind: nUpdateAddresses}.payload(), notify{kind: nNATSource, data: natHash(s.spiI, s.spiR, i.c.Local)}.payload(),
			notify{kind: nNATDestination, data: natHash(s.spiI, s.spiR, i.c.Remote)}.payload(),
		}, true
	}, answered: func(_ time.Time, m *message) {
		if _, failed := m.failure(); !failed {
			i.emit(Arrived{})
		}
	}})
	return i.take(), true
}

// moved answers what a device says of where it is (RFC 4555 §3.5 to §3.9). By then its peer is where the request came from: that is so for
// everything authentic, and a device that moves is followed before its first packet of traffic. ok is false where the request was refused.
func (s *ikeSA) moved(m *message) (answers []payload, ok bool) {
	if data, has := m.notified(nNoNATsAllowed); has && !s.seenAs(data) {
		s.refuse(informational, nUnexpectedNAT)
		return nil, false
	}
	if data, has := m.notified(nCookie2); has { // a trial of the way to where it says that it is
		answers = append(answers, notify{kind: nCookie2, data: data}.payload())
	}
	if _, has := m.notified(nNATSource); has {
		untrue := make([]byte, sha1.Size) // so that it goes on to put everything into UDP, as at the login
		_, _ = io.ReadFull(s.b.rand, untrue)
		answers = append(answers, notify{kind: nNATSource, data: untrue}.payload(),
			notify{kind: nNATDestination, data: natHash(s.spiI, s.spiR, s.b.peer.Addr)}.payload())
	}
	return answers, true
}

// seenAs tells whether the peer is seen at the address and port that it knows of itself: nothing translates on the way (RFC 4555 §3.9).
// Data is both addresses, then both ports.
func (s *ikeSA) seenAs(data []byte) bool {
	at := s.b.peer.Addr
	address := fold.Addr(at.Addr()).AsSlice()
	n := len(address)
	if len(data) != 2*n+4 || !bytes.Equal(data[:n], address) {
		return false
	}
	return uint16(data[2*n])<<8|uint16(data[2*n+1]) == at.Port()
}
