package ike

import (
	"io"
	"slices"
	"time"
)

// followUp is a renewal that the peer wants an additional key exchange for, while that is awaited (RFC 9370 §2.2.4).
type followUp struct {
	link   []byte // by which the peer names it
	method uint16
	until  time.Time
	// made makes what was asked for, of the secret that the additional exchange gave; nothing is made where that may not be any more.
	made func(now time.Time, further []byte) (refusal notify)
	// answered goes on once the peer has been told; dropped forgets what was kept for it.
	answered func(now time.Time)
	dropped  func()
}

const (
	followUpTime = 30 * time.Second // for the peer's half
	linkLen      = 8
)

// insists is the policy under which there must be an additional key exchange: for who offers nothing without one. The second value is
// false where none is known.
func (p Policy) insists() (Policy, bool) {
	p.demands = true
	return p, len(p.additional) > 0
}

// insisting are proposals for traffic by peers that want an additional key exchange by a method, without it.
func insisting(offered []proposal, method uint16) (out []proposal) {
	for _, p := range offered {
		if p.has(transform{kind: tADDKE1, id: method}) {
			p.transforms = slices.DeleteFunc(slices.Clone(p.transforms), func(t transform) bool { return t.kind == tADDKE1 })
			out = append(out, p)
		}
	}
	return out
}

// follows asks the peer for its half of the additional key exchange: what is added to the answer.
func (s *ikeSA) follows(now time.Time, f followUp) payload {
	f.link = make([]byte, linkLen)
	_, _ = io.ReadFull(s.b.rand, f.link)
	f.until = now.Add(followUpTime)
	s.follow = &f
	return notify{kind: nAdditional, data: f.link}.payload()
}

// unfollow forgets a renewal whose additional key exchange did not come.
func (s *ikeSA) unfollow() {
	if f := s.follow; f != nil {
		s.follow = nil
		f.dropped()
	}
}

// followedUp answers IKE_FOLLOWUP_KE, the additional key exchange of a renewal.
func (s *ikeSA) followedUp(now time.Time, m *message) {
	link, named := m.notified(nAdditional)
	ke, has, err := m.keyExchange()
	f := s.follow
	if f == nil || !named || string(link) != string(f.link) {
		s.refuse(ikeFollowUp, nStateNotFound)
		return
	}
	s.follow = nil
	if err != nil || !has || ke.group != f.method {
		f.dropped()
		s.invalid(ikeFollowUp)
		return
	}
	theirs := slices.Clone(ke.data)
	var ciphertext, further []byte
	s.working = true
	s.b.compute(now, func() { ciphertext, further, err = encapsulate(f.method, theirs) }, func(now time.Time) {
		s.working = false
		switch {
		case !slices.Contains(s.b.sas, s) || s.b.over:
			f.dropped()
			return
		case s.replaced() || s.renewing: // meanwhile, by a renewal of ours
			f.dropped()
			s.refuse(ikeFollowUp, nTemporaryFailure)
			return
		case err != nil:
			f.dropped()
			s.invalid(ikeFollowUp)
			return
		}
		if refusal := f.made(now, further); refusal.kind != 0 {
			f.dropped()
			s.reply(ikeFollowUp, refusal.payload())
			return
		}
		s.reply(ikeFollowUp, keyExchange{f.method, ciphertext}.payload())
		f.answered(now)
	})
}
