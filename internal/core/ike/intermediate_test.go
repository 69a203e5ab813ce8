package ike

import (
	"bytes"
	"encoding/binary"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/reason"
)

// hybrid offers ML-KEM beside a curve.
var hybrid = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519", "ML-KEM-768")

func hybrids(s *Settings, c *Caller) { s.Algorithms, c.Algorithms = hybrid, hybrid }

// Keys and AUTH of a login with an additional key exchange, derived once more from RFC 9370 §2.2.2 and RFC 9242 §3.3.2 alone; its messages
// go in parts, for its halves are long.
func TestAdditionalExchange(t *testing.T) {
	for _, tcp := range []bool{false, true} {
		w := newWorld(t, func(s *Settings, c *Caller) {
			hybrids(s, c)
			c.TCP = tcp // where nothing is cut into parts
		})
		w.from.TCP = tcp
		w.login()
		up, ok := find[Up](w)
		require.True(t, ok, "%v", w.failure())
		require.Equal(t, "AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519, ML-KEM-768", up.Suite)

		i, prf := w.i, prfHMACSHA256
		shared0 := must(i.half.shared(must(parseKE(must(parseMessage(i.answer)).mustFind(plKE))).data))
		first := firstKeys(i.suite, shared0, i.ni, i.nr, i.spiI, i.spiR)
		var asked, answered *message
		var parts gathered
		for _, data := range w.wire {
			m := must(parseMessage(data))
			if m.exchange != ikeIntermediate {
				continue
			}
			require.EqualValues(t, 1, m.id)
			require.LessOrEqual(t, len(data), map[bool]int{false: partLongest, true: MaxMessage}[tcp])
			in, err := parts.add(must(first.open(m, !m.response(), true)))
			if err == errPart {
				continue
			}
			require.NoError(t, err)
			if in.response() {
				answered = in
			} else {
				asked = in
			}
		}
		ke := must(parseKE(asked.mustFind(plKE)))
		require.EqualValues(t, 36, ke.group)
		require.Len(t, ke.data, 1184)
		ct := must(parseKE(answered.mustFind(plKE)))
		require.Len(t, ct.data, 1088)
		shared1 := must(i.kem.open(ct.data))
		seed := prf.sum(first.d, bytes.Join([][]byte{shared1, i.ni, i.nr}, nil))
		second := deriveKeys(i.suite, seed, i.ni, i.nr, i.spiI, i.spiR)
		require.Equal(t, second.d, i.keys.d)
		require.Equal(t, second.pr, i.keys.pr)

		covered := func(m *message, skP []byte) []byte {
			kePayload := m.payloads[0].body
			inner := append([]byte{0, 0, 0, byte(len(kePayload) + 4)}, kePayload...)
			binary.BigEndian.PutUint16(inner[2:], uint16(len(kePayload)+4))
			b := append([]byte{}, m.raw[:24]...)
			b[16] = 46
			b = binary.BigEndian.AppendUint32(b, uint32(28+4+len(inner)))
			b = binary.BigEndian.AppendUint16(append(b, 34, 0), uint16(4+len(inner)))
			return prf.sum(skP, append(b, inner...))
		}
		want := append(covered(asked, first.pi), covered(answered, first.pr)...)
		require.Equal(t, append(want, 0, 0, 0, 2), i.keys.intAuth)
		w.run(w.i.Alive(w.now), true)
		require.False(t, w.i.Waiting())
	}
}

// mustFind gives the body of a payload that is there.
func (m *message) mustFind(kind payloadType) []byte {
	body, ok := m.find(kind)
	if !ok {
		panic("it is not there")
	}
	return body
}

// A plan can demand an additional exchange: who has none is refused; without the demand they come in all the same. A device without
// IKE_INTERMEDIATE is not made to use it.
func TestDemandedExchange(t *testing.T) {
	classic := policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519")
	for _, x := range []struct {
		gateway, device Policy
		agreed          uint16
		ok              bool
	}{
		{hybrid, classic, 0, true},
		{classic, hybrid, 0, true},
		{hybrid.Demanding(), classic, 0, false},
		{hybrid.Demanding(), hybrid, kemMLKEM768, true},
		{classic, hybrid.Demanding(), 0, false},
		{hybrid, hybrid.Demanding(), kemMLKEM768, true},
		{Level(algorithm.Strict), Level(algorithm.Strict), kemMLKEM768, true},
		{hybrid.Legible(), Level(algorithm.Strict), 0, true},
	} {
		w := newWorld(t, func(s *Settings, c *Caller) { s.Algorithms, c.Algorithms = x.gateway, x.device })
		w.login()
		_, ok := find[Up](w)
		require.Equal(t, x.ok, ok, "%v", w.failure())
		if ok {
			require.Equal(t, x.agreed, w.i.suite.additional)
			w.now = w.now.Add(time.Minute)
			w.i.b.renewIKE(w.now) // which makes keys of those before
			w.run(w.i.take(), true)
			w.run(w.l.Tick(w.now), false)
			up, _ := find[Up](w)
			require.Equal(t, x.agreed, w.l.sessions[up.ID].cur.suite.additional)
			require.True(t, w.l.sessions[up.ID].cur.win.idle(), "and not once more")
		} else {
			require.ErrorContains(t, w.failure(), "NO_PROPOSAL_CHOSEN")
		}
	}
	// A device that offers the method, and does not say that it takes part in the exchange, comes in by no tunnel that demands it: neither
	// as the only one nor behind one that does not.
	for _, others := range [][]Tunnel{nil, {{ID: "classic", Name: "classic.tern.example", Algorithms: classic}}} {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.Algorithms, c.Algorithms = hybrid.Demanding(), hybrid
			if others != nil {
				demanding := s.Tunnel
				s.Tunnel = demanding
				s.Algorithms, s.ID, s.Name = classic, "classic", "classic.tern.example"
				s.More = []Tunnel{demanding}
			}
		})
		w.first = func(ps []payload) []payload {
			return slices.DeleteFunc(ps, func(p payload) bool {
				n, err := parseNotify(p.body)
				return p.kind == plNotify && err == nil && n.kind == nIntermediate
			})
		}
		w.login()
		_, up := find[Up](w)
		require.False(t, up)
		require.ErrorContains(t, w.failure(), "NO_PROPOSAL_CHOSEN")
		require.Zero(t, w.l.Sessions()+w.l.HalfOpen())
	}
	// One that does comes in, also where another tunnel stands first; and nothing is renewed over and over.
	w := newWorld(t, func(s *Settings, c *Caller) {
		demanding := s.Tunnel
		demanding.Algorithms, c.Algorithms = hybrid.Demanding(), hybrid
		s.Algorithms, s.ID, s.Name = classic, "classic", "classic.tern.example"
		s.More = []Tunnel{demanding}
	})
	w.login()
	up, ok := find[Up](w)
	require.True(t, ok, "%v", w.failure())
	require.Equal(t, uint16(kemMLKEM768), w.l.sessions[up.ID].cur.suite.additional)
	sent := len(w.wire)
	for range 10 {
		w.now = w.now.Add(time.Second)
		w.run(w.l.Tick(w.now), false)
	}
	require.Equal(t, sent, len(w.wire))

	offered := ikeProposals(hybrid, nil)
	_, suite, ok := Settings{Tunnel: Tunnel{Algorithms: hybrid}}.choose(offered, false)
	require.True(t, ok)
	require.Zero(t, suite.additional)
	more := offered[0]
	more.transforms = append(more.transforms, transform{kind: 7, id: kemMLKEM1024})
	_, _, ok = chooseIKE([]proposal{more}, hybrid, nil)
	require.False(t, ok, "a second additional exchange that may not be left out")
	more.transforms = append(more.transforms, transform{kind: 7})
	_, suite, ok = chooseIKE([]proposal{more}, hybrid, nil)
	require.True(t, ok)
	require.EqualValues(t, kemMLKEM768, suite.additional)
}

// Every message of such a login may be lost; one that leaves the exchange out, or sends something else in it, is refused.
func TestAdditionalExchangeGoesWrong(t *testing.T) {
	for lost := 1; lost <= 14; lost++ {
		w := newWorld(t, hybrids)
		w.lose = func(n int, _ bool) bool { return n == lost }
		w.login()
		for range 60 {
			w.now = w.now.Add(300 * time.Millisecond)
			w.run(w.i.Tick(w.now), true)
		}
		_, ok := find[Up](w)
		require.True(t, ok, "message %d: %v", lost, w.failure())
	}
	for what, send := range map[string]func(w *world){
		"left out": func(w *world) { w.i.id = 1; w.i.phase = phFirst; w.i.sendFirst(w.now) },
		"no half":  func(w *world) { w.i.send(w.now, ikeIntermediate) },
		"another method": func(w *world) {
			w.i.send(w.now, ikeIntermediate, keyExchange{kemMLKEM1024, make([]byte, 1184)}.payload())
		},
		"too short": func(w *world) {
			w.i.send(w.now, ikeIntermediate, keyExchange{kemMLKEM768, make([]byte, 1183)}.payload())
		},
		"no key": func(w *world) {
			w.i.send(w.now, ikeIntermediate, keyExchange{kemMLKEM768, bytes.Repeat([]byte{255}, 1184)}.payload())
		},
	} {
		w := newWorld(t, hybrids)
		until(w, 2)
		w.i.request = nil
		send(w)
		w.run(w.i.take(), true)
		require.Error(t, w.failure(), what)
		require.Zero(t, w.l.HalfOpen()+w.l.Sessions(), what)
		note, ok := find[Note](w)
		require.True(t, ok, what)
		want := reason.AdditionalKeyBad
		if what == "left out" {
			want = reason.IntermediateSkipped
		}
		require.Equal(t, want, note.Reason.Code, what)
	}
}
