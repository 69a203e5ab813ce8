package ike

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reason"
)

// insistent is what a device offers that renews with an additional key exchange and not without.
var insistent = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "P-256", "ML-KEM-768").Demanding()

// hybridWorld is a session with a gateway that has ML-KEM, some time after its login.
func hybridWorld(t testing.TB) *world {
	w := newWorld(t, func(s *Settings, c *Caller) { s.Algorithms, c.Algorithms = insistent, insistent })
	w.login()
	require.NoError(t, w.failure())
	w.now = w.now.Add(time.Minute)
	return w
}

// asking is a renewal that was asked for of the IKE SA, or of the Child SA, and what is needed to go on.
type asking struct {
	own    []byte // SPI
	ni, nr []byte
	theirs []byte
	shared []byte
	link   payload
	kem    kem
}

func (w *world) asks(t *testing.T, ofIKE bool) (b asking, answer *message) {
	b.ni = bytes.Repeat([]byte{5}, 32)
	half := must(newDH(groupP256, rand.Reader))
	var ps []payload
	if ofIKE {
		b.own = []byte{9, 8, 7, 6, 5, 4, 3, 2}
		ps = []payload{saPayload(ikeProposals(insistent, b.own)...)}
	} else {
		b.own = []byte{9, 8, 7, 6}
		offers := espProposals(insistent, b.own, groupP256)
		for i := range offers {
			offers[i].transforms = append(offers[i].transforms, transform{kind: tADDKE1, id: kemMLKEM768})
		}
		ps = []payload{
			w.rekey(), saPayload(offers...), selectors(plTSi, w.i.b.local), selectors(plTSr, w.i.b.remote),
		}
	}
	answer, _ = w.ask(createChildSA, append(ps, payload{kind: plNonce, body: b.ni}, keyExchange{groupP256, half.public()}.payload())...)
	saBody, ok := answer.find(plSA)
	if !ok {
		return b, answer
	}
	chosen := must(parseSA(saBody))[0]
	require.True(t, chosen.has(transform{kind: tADDKE1, id: kemMLKEM768}))
	link, ok := answer.notified(nAdditional)
	require.True(t, ok)
	b.theirs, b.nr, b.link = chosen.spi, nonceOf(answer), notify{kind: nAdditional, data: link}.payload()
	b.shared = must(half.shared(must(parseKE(answer.mustFind(plKE))).data))
	b.kem = must(newKEM(kemMLKEM768, rand.Reader))
	return b, answer
}

func (b asking) half() payload { return keyExchange{b.kem.method, b.kem.public}.payload() }

func mac(key []byte, data ...[]byte) []byte {
	m := hmac.New(sha256.New, key)
	m.Write(slices.Concat(data...))
	return m.Sum(nil)
}

// A device renews IKE SA and Child SA with an additional key exchange, in an exchange behind the first: keys are made of both secrets,
// derived once more here from RFC 9370 §2.2.4 alone.
func TestRenewalWithAdditionalExchange(t *testing.T) {
	w := hybridWorld(t)
	old := w.i.b.cur
	b, _ := w.asks(t, false)
	_, sent := find[Renewed](w)
	require.False(t, sent, "nothing is renewed yet")
	answer, _ := w.ask(ikeFollowUp, b.half(), b.link)
	further := must(b.kem.open(must(parseKE(answer.mustFind(plKE))).data))
	_, more := answer.notified(nAdditional)
	require.False(t, more, "it was the only one")
	renewed, ok := find[Renewed](w)
	require.True(t, ok)
	seed := slices.Concat(b.shared, b.ni, b.nr, further)
	first := mac(old.keys.d, seed, []byte{1})
	second := mac(old.keys.d, first, seed, []byte{2})
	require.Equal(t, slices.Concat(first, second)[:36], renewed.Child.InKey)

	b, _ = w.asks(t, true)
	answer, _ = w.ask(ikeFollowUp, b.half(), b.link)
	further = must(b.kem.open(must(parseKE(answer.mustFind(plKE))).data))
	w.ask(informational, deletion{protocol: protoIKE}.payload())
	w.i.b.forget(old)
	suite := suiteP
	suite.additional = kemMLKEM768
	spiI, spiR := binary.BigEndian.Uint64(b.own), binary.BigEndian.Uint64(b.theirs)
	w.i.b.cur = old.successor(w.now, suite, b.shared, b.ni, b.nr, further, spiI, spiR, true)
	require.Equal(t, deriveKeys(suite, mac(old.keys.d, b.shared, b.ni, b.nr, further), b.ni, b.nr, spiI, spiR).ei, w.i.b.cur.keys.ei)
	w.run(w.i.Alive(w.now), true)
	require.False(t, w.i.Waiting())
	require.Equal(t, 1, w.l.Sessions())
}

// What does not follow, follows something else, comes too late, or is no half of a key exchange, renews nothing, and leaves nothing behind.
func TestAdditionalExchangeDoesNotFollow(t *testing.T) {
	for _, ofIKE := range []bool{true, false} {
		w := hybridWorld(t)
		state := func(ps ...payload) notifyType {
			answer, _ := w.ask(ikeFollowUp, ps...)
			n, _ := answer.failure()
			return n.kind
		}
		children, sas := len(w.l.children), len(w.l.sas)
		require.Equal(t, nStateNotFound, state(notify{kind: nAdditional, data: []byte("nothing!")}.payload()))
		b, _ := w.asks(t, ofIKE)
		require.Equal(t, nStateNotFound, state(b.half(), notify{kind: nAdditional, data: []byte("another.")}.payload()))
		require.Equal(t, nStateNotFound, state(b.half()))

		again, _ := w.asks(t, ofIKE) // takes the place of the one before
		require.Equal(t, nStateNotFound, state(b.half(), b.link))
		w.now = w.now.Add(followUpTime + time.Second)
		w.run(w.l.Tick(w.now), false)
		require.Equal(t, nStateNotFound, state(again.half(), again.link), "too late")
		require.Equal(t, []int{children, sas}, []int{len(w.l.children), len(w.l.sas)})

		b, _ = w.asks(t, ofIKE)
		require.Equal(t, nInvalidSyntax, state(keyExchange{kemMLKEM768, b.kem.public[1:]}.payload(), b.link))
		down, ok := find[Down](w)
		require.True(t, ok)
		require.Equal(t, reason.PeerUnreadable, down.Reason.Code)
		require.Empty(t, w.l.children)
		require.Zero(t, w.l.Sessions())
	}
	// A tunnel without an additional key exchange has nothing for a device that insists on one.
	w := newWorld(t, func(s *Settings, c *Caller) { s.Algorithms, c.Algorithms = onlyP, onlyP })
	w.login()
	w.now = w.now.Add(time.Minute)
	for _, ofIKE := range []bool{true, false} {
		_, answer := w.asks(t, ofIKE)
		n, _ := answer.failure()
		require.Equal(t, nNoProposalChosen, n.kind)
	}
	require.Equal(t, 1, w.l.Sessions())
	// While the gateway renews by itself, one of both gives way.
	w = hybridWorld(t)
	for _, b := range w.l.sessions {
		b.renewIKE(w.now)
		require.True(t, b.cur.renewing)
	}
	_, answer := w.asks(t, true)
	n, _ := answer.failure()
	require.Equal(t, nTemporaryFailure, n.kind)
}
