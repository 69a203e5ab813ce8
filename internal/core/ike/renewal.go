package ike

import (
	"bytes"
	"encoding/binary"
	"slices"
	"time"
)

// leastRenewal is how old an IKE SA must be before a device may renew it: each older one is kept for a while, so nobody can make many.
const leastRenewal = 10 * time.Second

// rivalSA is an IKE SA that the peer made to take the place of one that we asked to renew at the same time.
type rivalSA struct {
	sa     *ikeSA
	lowest []byte
}

// renewed answers the peer's renewal of this SA (RFC 7296 §1.3.2, §2.18): the new one inherits the Child SAs, and the peer deletes this
// one.
func (s *ikeSA) renewed(now time.Time, m *message, offered []proposal, ni []byte) {
	b := s.b
	if b.follow && now.Sub(s.keyed) < leastRenewal || s.rival != nil || s.win.aboutChild() { // RFC 7296 §2.25.2
		s.refuse(createChildSA, nTemporaryFailure)
		return
	}
	ke, okKE, errKE := m.keyExchange()
	if errKE != nil || !okKE {
		s.invalid(createChildSA)
		return
	}
	own := b.newIKE()
	if own == 0 {
		s.refuse(createChildSA, nNoAdditionalSAs)
		return
	}
	spi := binary.BigEndian.AppendUint64(nil, own)
	chosen, suite, ok := chooseIKE(offered, b.tunnel.Algorithms.once(), spi)
	if more, has := b.tunnel.Algorithms.insists(); !ok && has {
		if chosen, suite, ok = chooseIKE(offered, more, spi); ok && s.renewing { // one of both gives way, and comes again
			s.refuse(createChildSA, nTemporaryFailure)
			return
		}
	}
	switch {
	case !ok:
		s.refuse(createChildSA, nNoProposalChosen)
		return
	case !goodNonce(ni, suite.prf):
		s.invalid(createChildSA)
		return
	case ke.group != suite.group:
		s.reply(createChildSA, notify{kind: nInvalidKE, data: binary.BigEndian.AppendUint16(nil, suite.group)}.payload())
		return
	}
	var theirs uint64
	for _, p := range offered {
		if p.number == chosen.number && len(p.spi) == 8 {
			theirs = binary.BigEndian.Uint64(p.spi)
		}
	}
	s.exchange(now, suite.group, ke.data, func(now time.Time, half dh, shared []byte, err error) {
		switch {
		case err != nil:
			s.invalid(createChildSA)
			return
		case s.win.aboutChild(): // meanwhile
			s.refuse(createChildSA, nTemporaryFailure)
			return
		}
		nr := b.nonce()
		ps := []payload{saPayload(chosen), {kind: plNonce, body: nr}, keyExchange{suite.group, half.public()}.payload()}
		ps = append(ps, b.tokens(&ikeSA{spiI: theirs, spiR: own})...)
		if suite.additional != 0 {
			var next *ikeSA
			s.reply(createChildSA, append(ps, s.follows(now, followUp{
				method: suite.additional, made: func(now time.Time, further []byte) (busy notify) {
					if s.win.aboutChild() {
						return notify{kind: nTemporaryFailure}
					}
					next = s.successor(now, suite, shared, ni, nr, further, theirs, own, false)
					return busy
				}, answered: func(now time.Time) { b.adopt(now, next) }, dropped: func() {},
			}))...)
			return
		}
		s.reply(createChildSA, ps...)
		next := s.successor(now, suite, shared, ni, nr, nil, theirs, own, false)
		if s.renewing { // both at once: settled by the answer to ours
			s.rival = &rivalSA{next, lowest(ni, nr)}
			return
		}
		b.adopt(now, next)
	})
}

// successor is the SA that takes this one's place, with fresh keys and message IDs.
func (s *ikeSA) successor(now time.Time, suite Suite, shared, ni, nr, further []byte, spiI, spiR uint64, mine bool) *ikeSA {
	if suite.additional == 0 { // keys are made of those before, and so of what was exchanged then
		suite.additional = s.suite.additional
	}
	next := &ikeSA{b: s.b, mine: mine, spiI: spiI, spiR: spiR, suite: suite, keyed: now, parts: s.parts}
	next.keys = s.keys.renewed(suite, shared, ni, nr, further, spiI, spiR)
	next.keys.rest()
	s.b.sas = append(s.b.sas, next)
	s.b.opened(next)
	if s.b.logKeys {
		s.b.emit(ikeKeyRow(spiI, spiR, next.keys))
	}
	return next
}

// renewIKE asks the peer to renew the IKE SA in use, if nothing speaks against it just now.
func (b *bond) renewIKE(now time.Time) {
	s := b.cur
	if s.renewing || s.rival != nil || s.follow != nil || s.win.aboutChild() {
		return
	}
	s.renewing = true
	s.askRenewal(now, b.tunnel.Algorithms.groups[0])
}

func (s *ikeSA) askRenewal(now time.Time, group uint16) {
	s.b.half(now, group, func(now time.Time, half dh, err error) {
		own := s.b.newIKE()
		if own == 0 || err != nil {
			s.renewing = false
			s.b.later = now.Add(againAfter)
			return
		}
		s.askRenewalWith(now, own, half)
	})
}

func (s *ikeSA) askRenewalWith(now time.Time, own uint64, half dh) {
	b, ni, group := s.b, s.b.nonce(), half.group
	s.ask(now, &request{exchange: createChildSA, write: func(time.Time) ([]payload, bool) {
		if s.replaced() {
			return nil, false
		}
		proposals := ikeProposals(b.tunnel.Algorithms.once(), binary.BigEndian.AppendUint64(nil, own))
		return []payload{saPayload(proposals...), {kind: plNonce, body: ni}, keyExchange{group, half.public()}.payload()}, true
	}, answered: func(now time.Time, m *message) {
		if b.over {
			return
		}
		b.agree(now, half, m, func(now time.Time, shared []byte, ok bool) {
			s.renewing = false
			var next *ikeSA
			if ok {
				next = s.renewalAnswered(now, m, own, ni, shared, group)
			}
			switch {
			case next == nil && s.replaced():
				return
			case next == nil:
				s.notRenewed(now, m, group)
				return
			case s.replaced(): // meanwhile: the peer has settled it already, for its own
				next.until = now.Add(replacedTime)
				next.remove(now)
				return
			}
			s.settle(now, next, lowest(ni, nonceOf(m)))
		})
	}})
}

// renewalAnswered reads the answer to a renewal of ours; nil if it is none.
func (s *ikeSA) renewalAnswered(now time.Time, m *message, own uint64, ni, shared []byte, group uint16) *ikeSA {
	if _, failed := m.failure(); failed {
		return nil
	}
	saBody, _ := m.find(plSA)
	nr := nonceOf(m)
	chosen, err := parseSA(saBody)
	if err != nil || len(chosen) != 1 || len(chosen[0].spi) != 8 || !goodNonce(nr, s.suite.prf) {
		return nil
	}
	_, suite, ok := chooseIKE(chosen, s.b.tunnel.Algorithms.once(), chosen[0].spi)
	if !ok || suite.group != group {
		return nil
	}
	next := s.successor(now, suite, shared, ni, nr, nil, own, binary.BigEndian.Uint64(chosen[0].spi), true)
	next.learn(m)
	return next
}

// notRenewed takes the peer's refusal of a renewal.
func (s *ikeSA) notRenewed(now time.Time, m *message, group uint16) {
	b := s.b
	b.later = now.Add(againAfter)
	n, _ := m.failure()
	switch {
	case s.rival != nil: // the peer's own renewal stands
		b.adopt(now, s.rival.sa)
	case n.kind == nInvalidKE && len(n.data) == 2:
		if other := binary.BigEndian.Uint16(n.data); other != group && slices.Contains(slices.Clone(b.tunnel.Algorithms.groups), other) {
			s.renewing = true
			s.askRenewal(now, other)
		}
	}
}

// settle makes the SA that our renewal made the one in use and deletes the one that it replaced; or, where both sides renewed at once, that
// of the two which the lowest of the four nonces made is deleted by who made it (RFC 7296 §2.8.2).
func (s *ikeSA) settle(now time.Time, made *ikeSA, low []byte) {
	b := s.b
	if s.rival != nil && bytes.Compare(low, s.rival.lowest) < 0 {
		b.adopt(now, s.rival.sa)
		made.until = now.Add(replacedTime)
		made.remove(now)
		return
	}
	if s.rival != nil {
		s.rival.sa.until = now.Add(replacedTime) // the peer deletes it
	}
	b.adopt(now, made)
	if tokens := b.tokens(made); tokens != nil { // its SPIs are known to both only now
		made.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) { return tokens, true }})
	}
	s.remove(now)
}
