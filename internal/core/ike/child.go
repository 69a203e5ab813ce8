package ike

import (
	"bytes"
	"encoding/binary"
	"slices"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// mostChildren is how many Child SAs a session may have at once: one, and the older ones that have yet to be deleted.
const mostChildren = 4

// childSA is a Child SA as its bond knows it.
type childSA struct {
	in, out  uint32 // SPIs: ours, and the peer's
	keyed    time.Time
	wear     esp.Wear // by what it protected
	renewing bool     // our request for a renewal is under way
	refused  bool     // the peer does not renew it: it lasts for as long as it may
	closing  bool     // our request to delete it is under way
	unsure   *ikeSA   // on which the peer asked for it, and may not have had the answer: to it this one may not be there yet
	rival    []byte   // the peer has renewed it: the lowest nonce of that
	heir     *childSA
}

func (b *bond) newest() *childSA {
	if len(b.children) == 0 {
		return nil
	}
	return b.children[len(b.children)-1]
}

// childBy finds a Child SA by the SPI that the peer chose: that is how it names one (RFC 7296 §1.4.1, §2.8).
func (b *bond) childBy(out uint32) *childSA {
	for _, c := range b.children {
		if c.out == out {
			return c
		}
	}
	return nil
}

// confirm notes that the peer has had all answers on an IKE SA.
func (b *bond) confirm(s *ikeSA) {
	for _, c := range b.children {
		if c.unsure == s {
			c.unsure = nil
		}
	}
}

// drop forgets a Child SA.
func (b *bond) drop(c *childSA) {
	if i := slices.Index(b.children, c); i >= 0 {
		b.children = slices.Delete(b.children, i, i+1)
		b.freeESP(c.in)
		b.emit(Dropped{b.id, c.in})
	}
}

// deleted takes the peer's deletions, and gives our SPIs of what goes with them. Where both sides delete at once, neither names its own in
// the answer (RFC 7296 §1.4.1).
func (b *bond) deleted(outs []uint32) (gone []uint32) {
	for _, out := range outs {
		c := b.childBy(out)
		if c == nil {
			continue
		}
		if !c.closing {
			gone = append(gone, c.in)
		}
		b.drop(c)
	}
	return gone
}

// makeChild derives a Child SA's keys on an IKE SA. asked tells whether the exchange was ours.
func (s *ikeSA) makeChild(now time.Time, a esp.Algorithm, in, out uint32, shared, ni, nr, further []byte, local, remote netset.Addrs,
	asked bool,
) (*childSA, Child) {
	toUs, fromUs := s.keys.child(a, shared, ni, nr, further)
	if asked {
		toUs, fromUs = fromUs, toUs
	}
	c := &childSA{in: in, out: out, keyed: now}
	s.b.children = append(s.b.children, c)
	if s.b.logKeys {
		s.b.emit(espKeyRow(in, a, toUs))
		s.b.emit(espKeyRow(out, a, fromUs))
	}
	return c, Child{
		In: in, Out: out, Algorithm: a, Most: a.Most().And(s.b.tunnel.Volume), InKey: toUs, OutKey: fromUs, Local: local, Remote: remote,
	}
}

func peerSPI(offered []proposal, number uint8) uint32 {
	for _, p := range offered {
		if p.number == number && len(p.spi) == 4 {
			return binary.BigEndian.Uint32(p.spi)
		}
	}
	return 0
}

// createChild answers the renewal of a Child SA (RFC 7296 §1.3.3), with or without a fresh key exchange; or makes one where there is none.
// Further Child SAs are not offered.
func (s *ikeSA) createChild(now time.Time, m *message, offered []proposal, ni []byte) {
	b := s.b
	tsiBody, _ := m.find(plTSi)
	tsrBody, _ := m.find(plTSr)
	tsi, errI := parseSelectors(tsiBody)
	tsr, errR := parseSelectors(tsrBody)
	ke, hasKE, errKE := m.keyExchange()
	if errI != nil || errR != nil || errKE != nil {
		s.invalid(createChildSA)
		return
	}
	if _, refusal := s.mayMakeChild(m); refusal.kind != 0 {
		s.reply(createChildSA, refusal.payload())
		return
	}
	var groups []uint16
	if hasKE || b.tunnel.PFS {
		groups = slices.Clone(b.tunnel.Algorithms.groups)
	}
	if !b.tunnel.PFS {
		groups = append(groups, dhNone)
	}
	spi := b.newESP()
	chosen, cipher, group, ok := chooseESP(offered, spi4(spi), b.tunnel.Algorithms, groups)
	method := uint16(0)
	for _, m := range b.tunnel.Algorithms.additional {
		if ok || !hasKE {
			break
		}
		if chosen, cipher, group, ok = chooseESP(insisting(offered, m), spi4(spi), b.tunnel.Algorithms, b.tunnel.Algorithms.groups); ok {
			method, chosen.transforms = m, append(chosen.transforms, transform{kind: tADDKE1, id: m})
		}
	}
	local, remote := tsr.Intersect(b.local), tsi.Intersect(b.remote)
	var refusal notify
	switch {
	case b.tunnel.PFS && !hasKE:
		refusal.kind = nNoProposalChosen
		b.emit(Note{
			Peer: b.peer, User: b.user, Known: true, Reason: b.why(reason.RenewsWithoutExchange).And(reason.With{
				reason.Notify: notifyWords[nNoProposalChosen], reason.Tunnel: b.tunnel.ID,
			}),
		})
	case !ok:
		refusal.kind = nNoProposalChosen
	case group != dhNone && ke.group != group: // only a group that was proposed, and that the tunnel has, is asked for (RFC 7296 §1.3)
		refusal = notify{kind: nInvalidKE, data: binary.BigEndian.AppendUint16(nil, group)}
	case len(local) == 0 || len(remote) == 0:
		refusal.kind = nTSUnacceptable
	}
	if refusal.kind != 0 {
		b.freeESP(spi)
		s.reply(createChildSA, refusal.payload())
		return
	}
	s.exchange(now, group, ke.data, func(now time.Time, half dh, shared []byte, err error) {
		old, refusal := s.mayMakeChild(m) // it may have changed meanwhile
		switch {
		case err != nil:
			b.freeESP(spi)
			s.invalid(createChildSA)
			return
		case refusal.kind != 0:
			b.freeESP(spi)
			s.reply(createChildSA, refusal.payload())
			return
		}
		nr := b.nonce()
		ps := []payload{saPayload(chosen), {kind: plNonce, body: nr}}
		if group != dhNone {
			ps = append(ps, keyExchange{group, half.public()}.payload())
		}
		ps = append(ps, selectors(plTSi, remote), selectors(plTSr, local))
		var child Child
		made := func(now time.Time, old *childSA, further []byte) {
			var c *childSA
			c, child = s.makeChild(now, cipher, spi, peerSPI(offered, chosen.number), shared, ni, nr, further, local, remote, false)
			if c.unsure = s; old != nil {
				old.rival, old.heir = lowest(ni, nr), c
			}
		}
		answered := func(time.Time) { b.emit(Renewed{b.id, child, false}) }
		if method == 0 {
			made(now, old, nil)
			s.reply(createChildSA, ps...)
			answered(now)
			return
		}
		s.reply(createChildSA, append(ps, s.follows(now, followUp{
			method: method, made: func(now time.Time, further []byte) notify {
				old, refusal := s.mayMakeChild(m)
				if refusal.kind == 0 {
					made(now, old, further)
				}
				return refusal
			}, answered: answered, dropped: func() { b.freeESP(spi) },
		}))...)
	})
}

// exchange works out our half of a key exchange that the peer asks for, and the secret; dhNone: there is none. Until then its request has
// no answer; where the SA is gone by then, it gets none.
func (s *ikeSA) exchange(now time.Time, group uint16, theirs []byte, then func(time.Time, dh, []byte, error)) {
	if group == dhNone {
		then(now, dh{}, nil, nil)
		return
	}
	var half dh
	var shared []byte
	var err error
	s.working, theirs = true, slices.Clone(theirs)
	s.b.compute(now, func() {
		if half, err = newDH(group, s.b.rand); err == nil {
			shared, err = half.shared(theirs)
		}
	}, func(now time.Time) {
		s.working = false
		switch {
		case !slices.Contains(s.b.sas, s) || s.b.over:
		case s.replaced(): // meanwhile, by a renewal of ours
			s.refuse(createChildSA, nTemporaryFailure)
		default:
			then(now, half, shared, err)
		}
	})
}

// mayMakeChild tells which Child SA the one that is asked for takes the place of, nil if it is to be the only one; or what is answered.
func (s *ikeSA) mayMakeChild(m *message) (*childSA, notify) {
	b := s.b
	if s.renewing { // RFC 7296 §2.25.2
		return nil, notify{kind: nTemporaryFailure}
	}
	for n := range m.notifies() {
		if n.kind != nRekeySA {
			continue
		}
		var c *childSA
		if len(n.spi) == 4 {
			c = b.childBy(binary.BigEndian.Uint32(n.spi))
		}
		switch {
		case c == nil && slices.ContainsFunc(b.children, func(x *childSA) bool { return x.renewing }):
			// It may be what the peer made as we asked it to, with an answer that is still on its way, or being worked out.
			return nil, notify{kind: nTemporaryFailure}
		case c == nil: // RFC 7296 §2.25
			return nil, notify{protocol: protoESP, spi: n.spi, kind: nChildSANotFound}
		case c.closing: // RFC 7296 §2.25.1
			return nil, notify{kind: nTemporaryFailure}
		case len(b.children) < mostChildren:
			return c, notify{}
		}
	}
	if len(b.children) == 0 {
		return nil, notify{}
	}
	return nil, notify{kind: nNoAdditionalSAs}
}

// renewChild asks the peer to renew a Child SA, if nothing speaks against it just now.
func (b *bond) renewChild(now time.Time, c *childSA) {
	if c.unsure != nil && slices.Contains(b.sas, c.unsure) || c.renewing || c.refused || c.closing || c.rival != nil || b.cur.renewing ||
		b.cur.rival != nil || b.cur.follow != nil {
		return
	}
	c.renewing = true
	group := uint16(dhNone)
	if b.tunnel.PFS {
		group = b.tunnel.Algorithms.groups[0]
	}
	b.askChild(now, c, group)
}

// half makes our half of a key exchange of our own asking; dhNone: there is none.
func (b *bond) half(now time.Time, group uint16, then func(time.Time, dh, error)) {
	if group == dhNone {
		then(now, dh{}, nil)
		return
	}
	var half dh
	var err error
	b.compute(now, func() { half, err = newDH(group, b.rand) }, func(now time.Time) {
		if !b.over {
			then(now, half, err)
		}
	})
}

// agree works out what comes of our half and the peer's.
func (b *bond) agree(now time.Time, half dh, m *message, then func(now time.Time, shared []byte, ok bool)) {
	if half.group == dhNone {
		then(now, nil, true)
		return
	}
	ke, has, err := m.keyExchange()
	if err != nil || !has || ke.group != half.group {
		then(now, nil, false)
		return
	}
	var shared []byte
	b.compute(now, func() { shared, err = half.shared(ke.data) }, func(now time.Time) {
		if !b.over {
			then(now, shared, err == nil)
		}
	})
}

// askChild sends the request, with a key exchange where a group is given.
func (b *bond) askChild(now time.Time, c *childSA, group uint16) {
	b.half(now, group, func(now time.Time, half dh, err error) {
		if err != nil {
			c.renewing = false
			b.later = now.Add(againAfter)
			return
		}
		b.askChildWith(now, c, group, half)
	})
}

func (b *bond) askChildWith(now time.Time, c *childSA, group uint16, half dh) {
	var s *ikeSA
	spi, ni := b.newESP(), b.nonce()
	free := func() {
		b.freeESP(spi)
		b.emit(Unexpected{spi})
	}
	r := &request{exchange: createChildSA, child: true, dropped: func() {
		c.renewing = false
		free()
	}}
	r.write = func(time.Time) ([]payload, bool) {
		s = b.cur
		if !slices.Contains(b.children, c) || c.rival != nil || c.closing { // it is gone, or has been renewed
			c.renewing = false
			free()
			return nil, false
		}
		ps := []payload{notify{protocol: protoESP, spi: spi4(c.in), kind: nRekeySA}.payload(), {}, {kind: plNonce, body: ni}}
		if group != dhNone {
			ps = append(ps, keyExchange{group, half.public()}.payload())
		}
		ps[1] = saPayload(espProposals(b.tunnel.Algorithms, spi4(spi), group)...)
		b.emit(Expected{b.id, spi})
		return append(ps, selectors(plTSi, b.local), selectors(plTSr, b.remote)), true
	}
	r.answered = func(now time.Time, m *message) {
		if b.over {
			return
		}
		if n, failed := m.failure(); failed {
			c.renewing = false
			free()
			b.notRenewed(now, c, n, group)
			return
		}
		b.agree(now, half, m, func(now time.Time, shared []byte, ok bool) {
			c.renewing = false
			var made *childSA
			var child Child
			if ok {
				made, child, ok = s.childAnswered(now, m, spi, ni, shared, group)
			}
			if !ok {
				free()
				c.refused = true
				return
			}
			b.emit(Renewed{b.id, child, true})
			b.settle(now, c, made, lowest(ni, nonceOf(m)))
		})
	}
	b.cur.ask(now, r)
}

func nonceOf(m *message) []byte {
	n, _ := m.find(plNonce)
	return n
}

// childAnswered reads the answer to a renewal of ours.
func (s *ikeSA) childAnswered(now time.Time, m *message, spi uint32, ni, shared []byte, group uint16) (*childSA, Child, bool) {
	b := s.b
	saBody, _ := m.find(plSA)
	nr := nonceOf(m)
	tsiBody, _ := m.find(plTSi)
	tsrBody, _ := m.find(plTSr)
	chosen, errSA := parseSA(saBody)
	tsi, errI := parseSelectors(tsiBody)
	tsr, errR := parseSelectors(tsrBody)
	if errSA != nil || errI != nil || errR != nil || !goodNonce(nr, s.suite.prf) || len(chosen) != 1 || len(chosen[0].spi) != 4 {
		return nil, Child{}, false
	}
	_, cipher, _, ok := chooseESP(chosen, chosen[0].spi, b.tunnel.Algorithms, []uint16{group})
	if !ok {
		return nil, Child{}, false
	}
	out := binary.BigEndian.Uint32(chosen[0].spi)
	c, child := s.makeChild(now, cipher, spi, out, shared, ni, nr, nil, tsi.Intersect(b.local), tsr.Intersect(b.remote), true)
	return c, child, true
}

// notRenewed takes the peer's refusal of a renewal.
func (b *bond) notRenewed(now time.Time, c *childSA, n notify, group uint16) {
	switch {
	case c.rival != nil: // the peer's own renewal stands: its maker deletes what it replaced
	case n.kind == nTemporaryFailure:
		b.later = now.Add(againAfter)
	case n.kind == nChildSANotFound:
		b.drop(c)
	case n.kind == nInvalidKE && len(n.data) == 2:
		other := binary.BigEndian.Uint16(n.data)
		if other != group && slices.Contains(slices.Clone(b.tunnel.Algorithms.groups), other) {
			c.renewing = true
			b.askChild(now, c, other)
			return
		}
		c.refused = true
	default:
		c.refused = true
	}
}

// settle deletes what our renewal made superfluous: what it replaced, or, where both sides renewed at once, that of the two which the
// lowest of the four nonces made, by who made it (RFC 7296 §2.8.1).
func (b *bond) settle(now time.Time, old, made *childSA, low []byte) {
	if old.rival != nil && bytes.Compare(low, old.rival) < 0 {
		// The peer's is the one in use; it stands last for that.
		if i := slices.Index(b.children, old.heir); i >= 0 {
			b.children = append(slices.Delete(b.children, i, i+1), old.heir)
			b.emit(Preferred{b.id, old.heir.in})
		}
		b.removeChild(now, made)
		return
	}
	b.removeChild(now, old)
}

// removeChild asks the peer to delete a Child SA.
func (b *bond) removeChild(now time.Time, c *childSA) {
	c.closing = true
	b.cur.ask(now, &request{exchange: informational, child: true, dropped: func() { b.drop(c) }, write: func(time.Time) ([]payload, bool) {
		return []payload{deletion{protoESP, []uint32{c.in}}.payload()}, slices.Contains(b.children, c)
	}, answered: func(time.Time, *message) { b.drop(c) }})
}
