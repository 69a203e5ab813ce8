package ike

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

var elsewhere = Peer{Addr: netip.MustParseAddrPort("198.51.100.66:4500"), NATT: true}

// until logs in and stops before the n-th datagram of the device's is delivered; that one is given.
func until(w *world, n int) (last []byte) {
	at := 0
	w.lose = func(i int, fromDevice bool) bool {
		if fromDevice {
			at++
		}
		if at >= n && fromDevice {
			last = w.wire[i-1]
		}
		return at >= n
	}
	w.login()
	w.lose = func(int, bool) bool { return false }
	return last
}

// sealed is what a device asks next, sealed.
func (w *world) sealed(x exchange, ps ...payload) []byte {
	first, chain := marshalPayloads(ps)
	return w.sealedChain(x, first, chain)
}

func (w *world) sealedChain(x exchange, first payloadType, chain []byte) []byte {
	s := w.i.b.cur
	s.sealed++
	h := header{spiI: s.spiI, spiR: s.spiR, exchange: x, id: s.win.next}
	if s.mine {
		h.flags = flagInitiator
	}
	return s.keys.sealChain(h, first, chain, s.mine, s.sealed)
}

// ask sends what a device asks, sealed, and gives the gateway's answer and what else it wants done.
func (w *world) ask(x exchange, ps ...payload) (*message, []Output) {
	w.t.Helper()
	return w.carry(w.sealed(x, ps...))
}

// askChain is ask with payloads that are written already.
func (w *world) askChain(x exchange, first payloadType, chain []byte) (*message, []Output) {
	w.t.Helper()
	return w.carry(w.sealedChain(x, first, chain))
}

func (w *world) carry(data []byte) (*message, []Output) {
	w.t.Helper()
	s := w.i.b.cur
	var answer *message
	outs := w.l.Handle(w.now, device, data)
	for n := 0; n < len(outs); n++ {
		o := outs[n]
		if work, ok := o.(Work); ok {
			outs = append(outs, w.l.Finish(w.now, work.Do())...)
			continue
		}
		sent, ok := o.(Send)
		if !ok {
			w.events = append(w.events, o)
			continue
		}
		if m, err := parseMessage(sent.Data); err == nil && m.response() && m.id == s.win.next {
			answer = must(s.keys.open(m, !s.mine, true))
			s.win.next++
		}
	}
	return answer, outs
}

func ended(outs []Output) (down Down, ok bool) {
	for _, o := range outs {
		if d, is := o.(Down); is {
			return d, true
		}
	}
	return down, false
}

func requireNotify(t testing.TB, m *message, kind notifyType) notify {
	t.Helper()
	require.NotNil(t, m, "there is an answer")
	for n := range m.notifies() {
		if n.kind == kind {
			return n
		}
	}
	require.Failf(t, "the answer lacks the notification", "%s in %+v", notifyWords[kind], m.payloads)
	return notify{}
}

// Whoever knows the SPIs and the next message ID, and nothing else, changes nothing: at no moment of a login, nor of a session, nor of an
// IKE SA that was renewed (RFC 7296 §2.21.4, §2.23).
func TestNothingUnauthenticChangesAnything(t *testing.T) {
	for stage := 3; stage <= 9; stage++ { // the first two are about the group
		w := newWorld(t, func(s *Settings, _ *Caller) { s.Algorithms = pThenX })
		waiting := until(w, stage)
		if stage == 9 {
			w.now = w.now.Add(time.Hour)
			w.renewIKE(t)
		}
		type standing struct {
			sa    *ikeSA
			login *login
		}
		var all []standing
		for _, r := range w.l.logins {
			all = append(all, standing{r.sa, r})
		}
		for _, s := range w.l.sas {
			all = append(all, standing{s, nil})
		}
		require.NotEmpty(t, all)
		for _, x := range all {
			r := x.sa
			state := func() []any {
				out := []any{*r}
				if x.login != nil {
					out = append(out, *x.login)
				} else {
					out = append(out, r.b.peer, r.b.heard, r.b.cur, r.b.over, len(r.b.children))
				}
				return out
			}
			for _, x := range []exchange{ikeAuth, informational, createChildSA, 38, 43, 99} {
				for _, id := range []uint32{r.win.expect, r.win.expect - 1, r.win.expect + 1, r.win.next} {
					for _, flags := range []uint8{flagInitiator, flagInitiator | flagResponse} {
						for size := 0; size < 60; size++ {
							h := header{spiI: r.spiI, spiR: r.spiR, first: plSK, exchange: x, flags: flags, id: id}
							raw := append(marshalHeader(h, headerLen+4+size), byte(plDelete), 0, 0, byte(4+size))
							raw = append(raw, make([]byte, size)...)
							before := state()
							for _, o := range w.l.Handle(w.now.Add(time.Second), elsewhere, raw) {
								require.Failf(t, "something was done", "stage %d, exchange %d, %d octets: %T", stage, x, size, o)
							}
							require.Equal(t, before, state())
						}
					}
				}
			}
		}
		if waiting != nil {
			w.run(w.l.Handle(w.now, device, waiting), false)
			require.NoError(t, w.failure())
			require.Equal(t, 1, w.l.Sessions(), "the login goes on, stage %d", stage)
		}
	}
}

// A device renews its IKE SA and then sends an authentic but malformed message on the old one: its session stays, and the books are right.
func TestMalformedOnARenewedSA(t *testing.T) {
	w := newWorld(t, func(s *Settings, _ *Caller) { s.Algorithms = pThenX })
	w.login()
	up, _ := find[Up](w)
	old := *w.l.sas[uint64(up.ID)]
	w.now = w.now.Add(time.Hour)
	w.renewIKE(t)
	keys := old.keys
	h := header{spiI: old.spiI, spiR: old.spiR, exchange: informational, id: w.l.sas[uint64(up.ID)].win.expect, flags: flagInitiator}
	w.run(w.l.Handle(w.now, device, keys.sealChain(h, plDelete, []byte{0, 0, 0, 2}, true, 99)), false)
	require.Zero(t, w.l.HalfOpen())
	require.Equal(t, 1, w.l.Sessions())
	_, over := find[Down](w)
	require.False(t, over)
	w.run(w.l.End(w.now, up.ID, reason.Of(reason.EndedBy, reason.With{reason.Administrator: "ada"})), false)
	_, over = find[Down](w)
	require.True(t, over, "the session can be ended")
}

// What the gateway answers to what a device may send on a standing IKE SA, and whether that ends it.
func TestReceived(t *testing.T) {
	esp256 := func(spi byte, more ...transform) payload {
		p := espProposals(onlyX, []byte{7, 7, 7, spi}, dhNone)[0]
		p.transforms = append(p.transforms, more...)
		return saPayload(p)
	}
	nonce := payload{kind: plNonce, body: bytes.Repeat([]byte{9}, 32)}
	tsi, tsr := selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere)
	ke := func(group uint16) payload {
		return keyExchange{group, must(newDH(group, rand.Reader)).public()}.payload()
	}
	critical := func(first payloadType, kind payloadType) (payloadType, []byte) {
		return first, []byte{byte(kind), 0, 0, 4, 0, 0x80, 0, 4}
	}
	for name, c := range map[string]struct {
		ask   func(w *world) (*message, []Output)
		want  notifyType // 0: no error
		data  []byte     // of the notification
		ends  bool
		after func(t *testing.T, w *world, m *message, outs []Output)
	}{
		"unknown critical payload": {ask: func(w *world) (*message, []Output) {
			first, chain := critical(plNotify, 200)
			chain = append([]byte{200, 0, 0, 8, 0, 0, 64, 0}, chain[4:]...)
			return w.askChain(informational, first, chain)
		}, want: nUnsupportedCritical, data: []byte{200}},
		"unknown payload that is not critical": {ask: func(w *world) (*message, []Output) {
			return w.askChain(informational, 200, []byte{0, 0, 0, 4})
		}},
		"unknown exchange": {ask: func(w *world) (*message, []Output) { return w.ask(99) }, want: nInvalidSyntax, ends: true},
		"malformed": {ask: func(w *world) (*message, []Output) {
			return w.askChain(informational, plDelete, []byte{0, 0, 0, 2})
		}, want: nInvalidSyntax, ends: true},
		"malformed deletion": {ask: func(w *world) (*message, []Output) {
			return w.ask(informational, payload{kind: plDelete, body: []byte{protoESP, 9, 0, 1}})
		}, want: nInvalidSyntax, ends: true},
		"nonce twice": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1), nonce, nonce, tsi, tsr)
		}, want: nInvalidSyntax, ends: true},
		"nonce too short": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1), payload{kind: plNonce, body: make([]byte, 15)}, tsi, tsr)
		}, want: nInvalidSyntax, ends: true},
		"nonce too long": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1), payload{kind: plNonce, body: make([]byte, 257)}, tsi, tsr)
		}, want: nInvalidSyntax, ends: true},
		"renewal of a Child SA that is not there": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, notify{protocol: protoESP, spi: []byte{9, 9, 9, 9}, kind: nRekeySA}.payload(),
				esp256(1), nonce, tsi, tsr)
		}, want: nChildSANotFound},
		"another Child SA beside the one": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, esp256(1), nonce, tsi, tsr)
		}, want: nNoAdditionalSAs},
		"unknown transform type": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1, transform{kind: 6, id: 36}), nonce, tsi, tsr)
		}, want: nNoProposalChosen},
		"group that the tunnel lacks": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1, transform{kind: tDH, id: groupP521}), nonce, ke(groupP521), tsi, tsr)
		}, want: nNoProposalChosen},
		"group that was not proposed": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1, transform{kind: tDH, id: groupX25519}), nonce, ke(groupP256), tsi, tsr)
		}, want: nInvalidKE, data: []byte{0, groupX25519}},
		"key exchange that was not proposed": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1), nonce, ke(groupP256), tsi, tsr)
		}},
		"renewal": {ask: func(w *world) (*message, []Output) {
			return w.ask(createChildSA, w.rekey(), esp256(1, transform{kind: tDH, id: groupP256}), nonce, ke(groupP256), tsi, tsr)
		}},
		"deletion of the only Child SA": {
			ask: func(w *world) (*message, []Output) {
				up, _ := find[Up](w)
				return w.ask(informational, deletion{protoESP, []uint32{up.Child.Out}}.payload())
			},
			after: func(t *testing.T, w *world, m *message, outs []Output) {
				up, _ := find[Up](w)
				body, ok := m.find(plDelete)
				require.True(t, ok)
				require.Equal(t, []uint32{up.Child.In}, must(parseDelete(body)).spis, "the gateway names its own")
				require.Contains(t, outs, Output(Dropped{up.ID, up.Child.In}))
				m, outs = w.ask(createChildSA, esp256(2), nonce, tsi, tsr) // the IKE SA lives on: it may have another one
				_, ok = m.find(plSA)
				require.True(t, ok, "%+v", m.payloads)
				require.True(t, slices.ContainsFunc(outs, func(o Output) bool { _, is := o.(Renewed); return is }))
			},
		},
		"deletion of a Child SA that is not there": {ask: func(w *world) (*message, []Output) {
			return w.ask(informational, deletion{protoESP, []uint32{0x09090909}}.payload())
		}, after: func(t *testing.T, w *world, m *message, outs []Output) {
			require.Empty(t, m.payloads)
			require.Len(t, w.l.children, 1)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, func(s *Settings, _ *Caller) { s.Algorithms = xThenP })
			w.login()
			m, outs := c.ask(w)
			require.NotNil(t, m, "the request is answered")
			if c.want != 0 {
				n := requireNotify(t, m, c.want)
				if c.data != nil {
					require.Equal(t, c.data, n.data)
				}
			} else {
				_, failed := m.failure()
				require.False(t, failed, "%+v", m.payloads)
			}
			_, over := ended(outs)
			require.Equal(t, c.ends, over)
			if c.ends {
				require.Empty(t, w.l.sas)
				require.Empty(t, w.l.children)
				return
			}
			require.Equal(t, 1, w.l.Sessions())
			if c.after != nil {
				c.after(t, w, m, outs)
			}
			m, _ = w.ask(informational)
			require.NotNil(t, m, "the IKE SA goes on")
		})
	}
}

// What a first message must be, and how one that is not is answered; none leaves anything behind.
func TestReceivedFirst(t *testing.T) {
	build := func(change func(h *header, ps *[]payload)) []byte {
		i := must(NewInitiator(newWorld(t, nil).i.c))
		i.Start(start)
		m := must(parseMessage(i.first))
		ps := slices.Clone(m.payloads)
		change(&m.header, &ps)
		return (&message{header: m.header, payloads: ps}).marshal()
	}
	of := func(ps []payload, kind payloadType) *payload {
		return &ps[slices.IndexFunc(ps, func(p payload) bool { return p.kind == kind })]
	}
	for name, c := range map[string]struct {
		data []byte
		want notifyType // 0: nothing is answered
		with []byte
	}{
		"unknown critical payload":    {data: build(func(_ *header, ps *[]payload) { *ps = append(*ps, payload{kind: 201, critical: true}) }), want: nUnsupportedCritical, with: []byte{201}},
		"nonce too short for the PRF": {data: build(func(_ *header, ps *[]payload) { of(*ps, plNonce).body = make([]byte, 15) }), want: nInvalidSyntax},
		"nonce too long":              {data: build(func(_ *header, ps *[]payload) { of(*ps, plNonce).body = make([]byte, 257) }), want: nInvalidSyntax},
		"key exchange twice":          {data: build(func(_ *header, ps *[]payload) { *ps = append(*ps, *of(*ps, plKE)) }), want: nInvalidSyntax},
		"unknown transform type": {data: build(func(_ *header, ps *[]payload) {
			p := must(parseSA(of(*ps, plSA).body))
			for i := range p {
				p[i].transforms = append(p[i].transforms, transform{kind: 6, id: 36})
			}
			*of(*ps, plSA) = saPayload(p...)
		}), want: nNoProposalChosen},
		"newer major version": {data: func() []byte {
			b := build(func(*header, *[]payload) {})
			b[17] = 0x30
			return b
		}(), want: nInvalidMajorVersion},
		"newer major version in an answer": {data: func() []byte {
			b := build(func(h *header, _ *[]payload) { h.flags |= flagResponse })
			b[17] = 0x30
			return b
		}()},
		"no nonce": {data: build(func(_ *header, ps *[]payload) {
			*ps = slices.DeleteFunc(*ps, func(p payload) bool { return p.kind == plNonce })
		}), want: nInvalidSyntax},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, nil)
			outs := w.l.Handle(w.now, device, c.data)
			require.Empty(t, w.l.sas)
			require.Zero(t, w.l.HalfOpen())
			i := slices.IndexFunc(outs, func(o Output) bool { _, is := o.(Send); return is })
			if c.want == 0 {
				require.Negative(t, i)
				return
			}
			require.GreaterOrEqual(t, i, 0, "there is an answer")
			m := must(parseMessage(outs[i].(Send).Data))
			require.True(t, m.response())
			n := requireNotify(t, m, c.want)
			if c.with != nil {
				require.Equal(t, c.with, n.data)
			}
		})
	}
	w := newWorld(t, func(s *Settings, c *Caller) {
		s.Algorithms = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-512", "X25519")
		c.Algorithms = s.Algorithms
	})
	w.i.ni = w.i.ni[:24]
	w.login()
	require.ErrorContains(t, w.failure(), "INVALID_SYNTAX", "half of the PRF's key are 32 octets")
}

// Names are compared as DNS compares them (RFC 7296 §3.5, RFC 4343).
func TestNamesWithoutCase(t *testing.T) {
	w := newWorld(t, func(_ *Settings, c *Caller) { c.Name = "Gate.TERN.example" })
	w.login()
	require.NoError(t, w.failure())
	require.Equal(t, 1, w.l.Sessions())
}

// Of what a passage has, a device is given the families that it asks for (RFC 7296 §3.15.1).
func TestOnlyFamiliesAskedFor(t *testing.T) {
	w := newWorld(t, nil)
	until(w, 2)
	w.i.phase = phFirst
	w.i.id, w.i.request = 1, nil
	asked := cfgPayload(cfgRequest, []cfgAttr{{kind: cfgIP4Address}})
	w.i.send(w.now, ikeAuth, payload{kind: plIDi, body: w.i.identity().body()}, asked,
		saPayload(espProposals(w.i.c.Algorithms, binary.BigEndian.AppendUint32(nil, w.i.childSPI), dhNone)...),
		selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere))
	w.run(w.i.take(), true)
	require.NoError(t, w.failure())
	up, ok := find[Up](w)
	require.True(t, ok)
	require.Equal(t, given.Addresses[:1], up.Addresses)
	require.Equal(t, netset.OfAddrs(given.Addresses[0]), up.Child.Remote)
	est, _ := find[Established](w)
	require.Equal(t, given.Addresses[:1], est.Addresses)
}

// A login that is right gets the gateway's closing proof also where its first Child SA cannot be (RFC 7296 §1.2); the SA is then ended.
func TestProofWithoutAChild(t *testing.T) {
	w := newWorld(t, nil)
	w.grant = Grant{Configuration: Configuration{Addresses: given.Addresses}} // no route in common
	w.login()
	closing := must(w.i.keys.open(must(parseMessage(w.wire[len(w.wire)-1])), false, true))
	for _, data := range w.wire {
		if m, err := parseMessage(data); err == nil && m.response() && m.exchange == ikeAuth {
			closing = must(w.i.keys.open(m, false, true))
		}
	}
	requireNotify(t, closing, nTSUnacceptable)
	body, ok := closing.find(plAuth)
	require.True(t, ok)
	_, data, err := parseAuth(body)
	require.NoError(t, err)
	require.Equal(t, w.i.keys.keyAuth(w.i.eap.MSK(), w.i.keys.signedOctets(w.i.answer, w.i.ni, w.i.keys.pr, w.i.idr)), data)
	require.Zero(t, w.l.Sessions())
	require.Zero(t, w.l.HalfOpen())
}

// Requests that come on an IKE SA that was renewed are answered until it is deleted (RFC 7296 §2.8, §2.25).
func TestRequestsOnARenewedSA(t *testing.T) {
	w := newWorld(t, func(s *Settings, _ *Caller) { s.Algorithms = pThenX })
	w.login()
	w.now = w.now.Add(time.Hour)
	own := []byte{9, 8, 7, 6, 5, 4, 3, 2}
	m, _ := w.ask(createChildSA, saPayload(ikeProposals(onlyP, own)...),
		payload{kind: plNonce, body: make([]byte, 32)},
		keyExchange{groupP256, must(newDH(groupP256, rand.Reader)).public()}.payload())
	_, ok := m.find(plSA)
	require.True(t, ok)
	m, _ = w.ask(informational)
	require.NotNil(t, m)
	m, _ = w.ask(createChildSA, w.rekey(),
		saPayload(espProposals(onlyX, []byte{1, 2, 3, 4}, dhNone)[0]), payload{kind: plNonce, body: make([]byte, 32)},
		selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere))
	requireNotify(t, m, nTemporaryFailure)
	m, _ = w.ask(informational, deletion{protocol: protoIKE}.payload())
	require.NotNil(t, m)
	require.Equal(t, 1, w.l.Sessions())
}
