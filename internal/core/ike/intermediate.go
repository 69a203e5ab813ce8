package ike

import (
	"encoding/binary"
	"time"

	"yellowlantern/internal/core/reason"
)

// The additional key exchange goes between IKE_SA_INIT and IKE_AUTH, in an exchange of its own (RFC 9242), for its halves are too long for
// a message that cannot be cut. Keys are then derived once more, from both secrets (RFC 9370 §2.2.2), and AUTH covers it (RFC 9242 §3.3.2).

// macked is what AUTH covers of a message of IKE_INTERMEDIATE: its header and that of its encrypted payload, with the lengths that they
// would have if it were not encrypted nor cut into parts, then the chain of payloads in the clear.
func macked(h header, first payloadType, chain []byte) []byte {
	h.first = plSK
	out := marshalHeader(h, headerLen+4+len(chain))
	n := 4 + len(chain)
	out = append(out, byte(first), 0, byte(n>>8), byte(n))
	return append(out, chain...)
}

// further derives the keys that come of an additional secret (RFC 9370 §2.2.2), and keeps what AUTH covers of the exchange: asked and
// answered are what macked gives of both messages.
func (k *keys) further(shared, ni, nr []byte, spiI, spiR uint64, asked, answered []byte) *keys {
	prf := k.suite.prf
	next := deriveKeys(k.suite, prf.sum(k.d, shared, ni, nr), ni, nr, spiI, spiR)
	next.intAuth = append(prf.sum(k.pi, asked), prf.sum(k.pr, answered)...)
	next.intAuth = binary.BigEndian.AppendUint32(next.intAuth, 2) // message ID of the first IKE_AUTH
	return next
}

// intermediate takes the device's half of the additional key exchange; the gateway's is worked out elsewhere.
func (r *login) intermediate(m *message) {
	ke, ok, err := m.keyExchange()
	if r.stage != opened || !r.furthers() {
		r.invalid(m.exchange)
		return
	}
	if !ok || err != nil || ke.group != r.sa.suite.additional {
		r.badAdditional()
		return
	}
	theirs := append([]byte{}, ke.data...)
	asked := macked(m.header, m.chainFirst, m.chain)
	method := ke.group
	r.awaits = awaitsWork
	r.l.emit(Work{Do: func() Finish {
		ciphertext, shared, err := encapsulate(method, theirs)
		return func(time.Time) { r.furthered(asked, ciphertext, shared, err) }
	}})
}

// furthers tells whether the additional key exchange is awaited.
func (r *login) furthers() bool {
	return r.sa.suite.additional != 0 && r.sa.keys.intAuth == nil && r.ticket == nil
}

// furthered answers with the gateway's half, under the older keys, and goes on with the newer ones.
func (r *login) furthered(asked, ciphertext, shared []byte, err error) {
	if r.awaits != awaitsWork {
		return
	}
	r.awaits = awaitsNothing
	if err != nil {
		r.badAdditional()
		return
	}
	w, sa := &r.sa.win, r.sa
	ps := []payload{keyExchange{sa.suite.additional, ciphertext}.payload()}
	first, chain := marshalPayloads(ps)
	answered := macked(header{
		spiI: sa.spiI, spiR: sa.spiR, exchange: ikeIntermediate, id: w.expect, flags: flagResponse,
	}, first, chain)
	r.reply(ikeIntermediate, ps...)
	r.before = sa.keys
	sa.keys = sa.keys.further(shared, r.ni, r.nr, sa.spiI, sa.spiR, asked, answered)
	if r.l.set.LogKeys {
		r.l.emit(ikeKeyRow(sa.spiI, sa.spiR, sa.keys))
	}
}

// badAdditional refuses a login whose additional key exchange cannot be carried out with what the device sent for it.
func (r *login) badAdditional() {
	r.l.Counters.Malformed++
	r.reply(ikeIntermediate, notify{kind: nInvalidSyntax}.payload())
	r.refuse(reason.Of(reason.AdditionalKeyBad, nil), nInvalidSyntax)
}

// furthersFirst refuses a login that leaves the additional key exchange out after having agreed to it.
func (r *login) furthersFirst() bool {
	if !r.furthers() {
		return true
	}
	r.fail(nAuthenticationFailed, reason.Of(reason.IntermediateSkipped, nil))
	return false
}

// sendIntermediate sends the device's half.
func (i *Initiator) sendIntermediate(now time.Time) {
	var err error
	if i.kem, err = newKEM(i.suite.additional, i.c.Rand); err != nil {
		i.fail(err)
		return
	}
	ps := []payload{keyExchange{i.kem.method, i.kem.public}.payload()}
	first, chain := marshalPayloads(ps)
	i.phase, i.id = phIntermediate, 1
	i.macked = macked(header{spiI: i.spiI, spiR: i.spiR, exchange: ikeIntermediate, id: i.id, flags: flagInitiator}, first, chain)
	i.send(now, ikeIntermediate, ps...)
}

// intermediateAnswered takes the gateway's half, and goes on with the keys that come of it.
func (i *Initiator) intermediateAnswered(now time.Time, m *message) {
	ke, ok, err := m.keyExchange()
	if !ok || err != nil || ke.group != i.suite.additional {
		i.fail(errKEM)
		return
	}
	shared, err := i.kem.open(ke.data)
	if err != nil {
		i.fail(errKEM)
		return
	}
	i.keys = i.keys.further(shared, i.ni, i.nr, i.spiI, i.spiR, i.macked, macked(m.header, m.chainFirst, m.chain))
	if i.c.LogKeys {
		i.emit(ikeKeyRow(i.spiI, i.spiR, i.keys))
	}
	i.phase = phFirst
	i.sendFirst(now)
}
