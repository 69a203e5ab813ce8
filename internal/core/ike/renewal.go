package ike

import (
	"encoding/binary"
	"io"
	"time"
)

// leastRenewal is how old an IKE SA must be before it is renewed, mostChildren how many Child SAs a session may have at once: one, and the
// older ones that its device has yet to delete.
const (
	leastRenewal = 10 * time.Second
	mostChildren = 4
)

// renewIKE makes an IKE SA that takes this one's place and inherits its Child SAs (RFC 7296 §2.18). The device then deletes
// the older one.
func (r *responder) renewIKE(now time.Time, m *message, offered []proposal, ni []byte) {
	if now.Sub(r.keyed) < leastRenewal { // each older SA is kept for a while: nobody can make many
		r.reply(createChildSA, notify{kind: nTemporaryFailure}.payload())
		return
	}
	keBody, _ := m.find(plKE)
	ke, errKE := parseKE(keBody)
	id := r.l.newID()
	if errKE != nil || len(ni) < 16 || len(ni) > 256 || id == 0 {
		r.reply(createChildSA, notify{kind: nInvalidSyntax}.payload())
		return
	}
	own := binary.BigEndian.AppendUint64(nil, uint64(id))
	chosen, suite, ok := chooseIKE(offered, r.tunnel.Suites, own)
	if !ok {
		r.reply(createChildSA, notify{kind: nNoProposalChosen}.payload())
		return
	}
	if ke.group != suite.group {
		r.reply(createChildSA, notify{kind: nInvalidKE, data: binary.BigEndian.AppendUint16(nil, suite.group)}.payload())
		return
	}
	half, err := newDH(suite.group, r.l.set.Rand)
	if err != nil {
		r.reply(createChildSA, notify{kind: nNoAdditionalSAs}.payload())
		return
	}
	shared, err := half.shared(ke.data)
	nr := make([]byte, nonceLen)
	if _, errRand := io.ReadFull(r.l.set.Rand, nr); err != nil || errRand != nil {
		r.reply(createChildSA, notify{kind: nInvalidSyntax}.payload())
		return
	}
	spiI := uint64(0)
	for _, p := range offered {
		if p.number == chosen.number && len(p.spi) == 8 {
			spiI = binary.BigEndian.Uint64(p.spi)
		}
	}
	r.reply(createChildSA, saPayload(chosen), payload{kind: plNonce, body: nr}, keyExchange{suite.group, half.public()}.payload())

	next := *r
	next.spi, next.spiI, next.suite, next.keyed, next.heard = uint64(id), spiI, suite, now, now
	next.keys = r.keys.renewed(suite, shared, ni, nr, spiI, uint64(id))
	next.expect, next.lastReply, next.sealed, next.request, next.requestID = 0, nil, 0, nil, 0
	r.l.sas[r.id], r.l.spis[next.spi] = &next, &next
	r.state, r.keyed, r.request = replaced, now, nil
	if r.l.set.LogKeys {
		r.l.emit(ikeKeyRow(spiI, next.spi, next.keys))
	}
}

// overdue tells whether keys made at a time have been used for longer than they may be; 0: no limit.
func overdue(now, made time.Time, life time.Duration) bool { return life > 0 && now.Sub(made) >= life }

// expire ends a session whose device did not renew in time, and tells it.
func (r *responder) expire(now time.Time, reason string) {
	r.ask(now, []payload{deletion{protocol: protoIKE}.payload()})
	r.close(reason)
}
