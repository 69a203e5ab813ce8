package ike

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"io"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

const (
	replacedTime = time.Minute      // how long an IKE SA stays after it was replaced, if the peer does not delete it
	replayTime   = 10 * time.Second // how long it stays after its deletion, to answer that again
	againAfter   = 5 * time.Second  // a renewal that could not be just then is tried again after this
)

// bond is what stands between two sides after a login, the same for both: the IKE SA in use with those that it replaced or that are about
// to replace it, the Child SAs, and how long all of them may last. It outlives each of its SAs.
type bond struct {
	who  string // what the other side is called in words
	id   ID
	user string
	peer Peer
	// tellsMoves is that the peer tells when it moves, and answers trials of the way (RFC 4555).
	tellsMoves bool
	follow     bool // the peer may be heard from elsewhere, and is there from then on
	// onePlace is that it may not be heard from elsewhere: that ends the bond.
	onePlace bool
	// unproved is that nothing shows yet that the peer receives what goes to where it was heard from. moves counts how often it turned up
	// elsewhere; trying, that the way there is being tried.
	unproved, trying bool
	moves            uint64
	tunnel           *Tunnel // not altered: others have the same
	// local and remote are the addresses on either side that selectors are narrowed to.
	local, remote netset.Addrs
	patience      time.Duration

	*surroundings
	sas      []*ikeSA
	cur      *ikeSA // in use
	children []*childSA
	heard    time.Time
	later    time.Time // no renewal is begun before
	due      time.Time // nothing is to be done before, unless something happens
	over     bool
}

// surroundings are what all bonds of one side have around them.
type surroundings struct {
	at      func(Peer) netip.Addr // where a peer is
	rand    io.Reader
	logKeys bool

	newIKE  func() uint64                    // a fresh SPI for an IKE SA
	newESP  func() uint32                    // and for a Child SA, which is freed by freeESP
	freeESP func(uint32)                     //
	opened  func(*ikeSA)                     // an IKE SA exists from now on
	closed  func(*ikeSA)                     // and no longer
	ended   func(b *bond, why reason.Reason) // the bond is over
	emit    func(Output)
	// token is what the other side knows by that we forgot an IKE SA; nil: there is none.
	token func(spiI, spiR uint64) []byte
	// elsewhere has key exchanges worked out; nil: they are worked out here.
	elsewhere func(Work)
	count     *Counters
}

// start makes a bond of what a login left behind.
func (b *bond) start(first *ikeSA) {
	b.patience = cmp.Or(b.patience, b.tunnel.Patience, defaultPatient)
	first.b = b
	first.keys.rest()
	b.cur, b.sas = first, []*ikeSA{first}
	b.opened(first)
}

// compute does what takes long, and goes on then.
func (b *bond) compute(now time.Time, do func(), then func(now time.Time)) {
	if b.elsewhere == nil {
		do()
		then(now)
		return
	}
	b.elsewhere(Work{Do: func() Finish {
		do()
		return then
	}, Needed: true})
}

// hear notes that the peer was heard; it is false where it may not be where it is, which ends the bond.
func (b *bond) hear(now time.Time, from Peer) bool {
	b.heard = now
	if b.follow && b.peer != from {
		old := b.peer
		b.peer = from
		if b.onePlace && !b.over && crowd.Source(b.at(old)) != crowd.Source(b.at(from)) {
			b.end(now, reason.Of(reason.MovedElsewhere, reason.With{
				reason.Source: b.at(old).String(), reason.Address: b.at(from).String(),
			}))
			return false
		}
		b.moves++
		b.unproved = !from.TCP // a connection from there exists
		if !b.over {
			b.emit(Moved{b.id, from})
			if !b.unproved {
				b.emit(Proved{b.id, from})
			}
		}
	}
	return true
}

// forget lets go of an IKE SA.
func (b *bond) forget(s *ikeSA) {
	if i := slices.Index(b.sas, s); i >= 0 {
		b.sas = slices.Delete(b.sas, i, i+1)
		s.win.drop()
		s.unfollow()
		b.closed(s)
	}
}

// fall ends the bond where the peer needs not be told, or cannot be.
func (b *bond) fall(why reason.Reason) {
	b.finish(why)
	for _, s := range slices.Clone(b.sas) {
		b.forget(s)
	}
}

// why is a reason that is about the peer.
func (b *bond) why(code reason.Code) reason.Reason {
	return reason.Of(code, reason.With{reason.Peer: b.who})
}

// end ends the bond and tells the peer.
func (b *bond) end(now time.Time, why reason.Reason) {
	if b.over {
		return
	}
	b.finish(why)
	for _, s := range slices.Clone(b.sas) {
		if s != b.cur {
			b.forget(s)
		}
	}
	b.cur.remove(now)
}

func (b *bond) finish(why reason.Reason) {
	if b.over {
		return
	}
	b.over = true
	for _, c := range b.children {
		b.freeESP(c.in)
	}
	b.children = nil
	b.ended(b, why)
}

// adopt makes another IKE SA the one in use. What was not asked yet is asked there.
func (b *bond) adopt(now time.Time, s *ikeSA) {
	old := b.cur
	b.cur = s
	s.until, old.until = time.Time{}, now.Add(replacedTime)
	s.win.queue = append(s.win.queue, old.win.queue...)
	old.win.queue = nil
	s.pump(now)
}

// tokens are what tells the peer, once we have forgotten an IKE SA, that this is so (RFC 6290 §4.1).
func (b *bond) tokens(s *ikeSA) []payload {
	if b.token == nil {
		return nil
	}
	t := b.token(s.spiI, s.spiR)
	if t == nil {
		return nil
	}
	return []payload{notify{kind: nCrashToken, data: t}.payload()}
}

// tick does what is due.
func (b *bond) tick(now time.Time) {
	if now.Before(b.due) && len(b.sas) == 1 && b.cur.win.idle() {
		return
	}
	b.look(now)
	b.due = b.next(now)
}

// lookAgain is the longest that a bond on which nothing happens is not looked at.
const lookAgain = time.Second

// next is when something may be due, if nothing happens: thousands of bonds are looked at a few times a second.
func (b *bond) next(now time.Time) time.Time {
	next := now.Add(lookAgain)
	sooner := func(from time.Time, after time.Duration) {
		if at := from.Add(after); after > 0 && at.After(now) && at.Before(next) {
			next = at
		}
	}
	life := b.tunnel
	for _, limit := range []struct {
		made time.Time
		life time.Duration
	}{{b.cur.keyed, life.IKELife}, {b.keyed(), life.ESPLife}} {
		sooner(limit.made, limit.life)
		sooner(limit.made, limit.life-limit.life/10)
	}
	sooner(b.heard, life.Liveness)
	sooner(b.later, 1)
	return next
}

// keyed is since when the newest Child SA's keys are used.
func (b *bond) keyed() time.Time {
	if c := b.newest(); c != nil {
		return c.keyed
	}
	return time.Time{}
}

// look does what is due.
func (b *bond) look(now time.Time) {
	for _, s := range slices.Clone(b.sas) {
		s.tick(now)
	}
	if b.over {
		return
	}
	life := b.tunnel
	newest := b.newest()
	switch {
	case overdue(now, b.cur.keyed, life.IKELife):
		b.end(now, b.why(reason.KeysNotRenewed))
	case newest != nil && (overdue(now, newest.keyed, life.ESPLife) || newest.wear == esp.Spent):
		b.end(now, b.why(reason.CiphersNotRenewed))
	case now.Before(b.later):
	case worn(now, b.cur.keyed, life.IKELife) || b.cur.sealed > mostSealed || !b.tunnel.Algorithms.renews(b.cur.suite):
		b.renewIKE(now)
	case newest != nil && (worn(now, newest.keyed, life.ESPLife) || newest.wear >= esp.Worn):
		b.renewChild(now, newest)
	}
	if !b.over && b.cur.win.idle() && life.Liveness > 0 && now.Sub(b.heard) >= life.Liveness {
		b.cur.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) { return nil, true }})
	}
}

// mostSealed is after how many messages an IKE SA is renewed, whatever its age: long before its IVs are used up.
const mostSealed = 1 << 31

// overdue tells whether keys made at a time have been used for longer than they may be; 0: no limit.
func overdue(now, made time.Time, life time.Duration) bool { return life > 0 && now.Sub(made) >= life }

// worn tells whether it is time to renew keys: when nine tenths of their life are over, so that there is time for it.
func worn(now, made time.Time, life time.Duration) bool { return overdue(now, made, life-life/10) }

// wears notes how far the keys of a Child SA are used up.
func (b *bond) wears(in uint32, wear esp.Wear) {
	for _, c := range b.children {
		if c.in == in {
			c.wear = max(c.wear, wear)
			b.due = time.Time{}
		}
	}
}

// lowest is the lower of an exchange's nonces (RFC 7296 §2.8.1).
func lowest(ni, nr []byte) []byte {
	if bytes.Compare(ni, nr) < 0 {
		return ni
	}
	return nr
}

func (b *bond) nonce() []byte {
	n := make([]byte, nonceLen)
	_, _ = io.ReadFull(b.rand, n)
	return n
}

func spi4(spi uint32) []byte { return binary.BigEndian.AppendUint32(nil, spi) }
