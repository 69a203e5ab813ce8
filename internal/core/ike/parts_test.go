package ike

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// long makes the gateway's first answer longer than most ways carry at once.
func long(s *Settings, _ *Caller) {
	for range 4 {
		s.Chain = append(s.Chain, ca.DER)
	}
}

// A way that carries nothing longer than IPv6 must carry, whatever order its datagrams come in, and also where each comes twice: whoever
// takes messages in parts logs in and renews, under every cipher.
func TestInParts(t *testing.T) {
	for _, words := range [][]string{
		{"AES-256-GCM-16"}, {"AES-256-CBC", "HMAC-SHA2-512-256"}, {"3DES-CBC", "HMAC-SHA1-96"}, {"ChaCha20-Poly1305"},
	} {
		for name, order := range map[string]func([]Output) []Output{
			"in order": nil, "the last first": func(all []Output) []Output { slices.Reverse(all); return all },
			"each twice": func(all []Output) (out []Output) {
				for _, o := range all {
					if out = append(out, o); len(all) > 1 {
						out = append(out, o)
					}
				}
				return out
			},
		} {
			w := newWorld(t, func(s *Settings, c *Caller) {
				long(s, c)
				s.Algorithms = policy(append(words, "PRF-HMAC-SHA2-256", "X25519")...)
				c.Algorithms = s.Algorithms
			})
			most, many := 0, 0
			w.lose = func(n int, fromDevice bool) bool {
				size := len(w.wire[n-1])
				most = max(most, size)
				if !fromDevice && payloadType(w.wire[n-1][16]) == plSKF {
					many++
				}
				return size > 1280-48
			}
			w.order = order
			w.login()
			up, ok := find[Up](w)
			require.True(t, ok, "%v %s: %v", words, name, w.failure())
			require.NoError(t, w.failure())
			require.LessOrEqual(t, most, partLongest)
			require.GreaterOrEqual(t, many, 2)
			require.True(t, w.l.sessions[up.ID].cur.parts)
			w.now = w.now.Add(time.Minute)
			w.i.b.renewIKE(w.now)
			w.run(w.i.take(), true)
			require.True(t, w.l.sessions[up.ID].cur.parts, "also after a renewal")
			require.NoError(t, w.failure())
		}
	}
	// Over TCP nothing is cut.
	w := newWorld(t, func(s *Settings, c *Caller) { long(s, c); c.TCP = true })
	w.from.TCP = true
	w.login()
	require.NoError(t, w.failure())
	longest := 0
	for _, b := range w.wire {
		longest = max(longest, len(b))
		require.NotEqual(t, plSKF, payloadType(b[16]))
	}
	require.Greater(t, longest, partLongest)
}

// What an authentic device sends in parts that make no message is gathered within bounds and comes to nothing; the message that it belongs
// to is answered once it is whole, and only its first part asks for the answer again.
func TestBadParts(t *testing.T) {
	w := newWorld(t, nil)
	w.login()
	up, _ := find[Up](w)
	s := w.l.sas[uint64(up.ID)]
	first, chain := marshalPayloads([]payload{notify{kind: nInitialContact}.payload(), {kind: plVendor, body: make([]byte, 300)}})
	var sealed []byte
	part := func(id uint32, number, total int, first payloadType, piece []byte) []Output {
		d := w.i.b.cur
		d.sealed++
		h := header{spiI: d.spiI, spiR: d.spiR, exchange: informational, id: id, flags: flagInitiator, first: plSKF}
		protect := d.keys.side(true)
		b := marshalHeader(h, headerLen+8+protect.Len(len(piece)))
		n := 8 + protect.Len(len(piece))
		b = append(b, byte(first), 0, byte(n>>8), byte(n))
		b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, uint16(number)), uint16(total))
		sealed = protect.Seal(b, piece, d.sealed)
		return w.l.Handle(w.now, device, sealed)
	}
	expect := s.win.expect
	half := len(chain) / 2
	for name, bad := range map[string]func() []Output{
		"number 0":             func() []Output { return part(expect, 0, 2, first, chain) },
		"beyond the total":     func() []Output { return part(expect, 3, 2, plNone, chain) },
		"too many":             func() []Output { return part(expect, 1, partsMost+1, first, chain) },
		"none at all":          func() []Output { return part(expect, 0, 0, first, chain) },
		"no kind in the first": func() []Output { return part(expect, 1, 2, plNone, chain[:half]) },
		"a kind in another":    func() []Output { return part(expect, 2, 2, first, chain[half:]) },
		"of another message":   func() []Output { return part(expect+1, 1, 2, first, chain[:half]) },
		"of an older message":  func() []Output { return part(expect-2, 1, 2, first, chain[:half]) },
	} {
		require.Empty(t, bad(), name)
		require.Equal(t, expect, s.win.expect, name)
	}
	raw := w.sealedChain(informational, first, chain)
	raw[len(raw)-1] ^= 1
	before := w.l.Counters.Undecryptable
	w.l.Handle(w.now, device, raw)
	require.Equal(t, before+1, w.l.Counters.Undecryptable)

	require.Empty(t, part(expect, 1, 5, first, chain[:half]))
	require.Empty(t, part(expect, 1, 2, first, chain[:half]), "one of fewer is the older one")
	s.win.asked = gathered{}

	// Somebody on the way copies a part of what is not whole yet, and sends it from elsewhere: nobody moves by that.
	require.Empty(t, part(expect, 1, 2, first, chain[:half]))
	elsewhere := Peer{Addr: netip.MustParseAddrPort("203.0.113.45:50001"), NATT: true}
	require.Empty(t, w.l.Handle(w.now, elsewhere, sealed))
	require.Equal(t, device, s.b.peer)
	s.win.asked = gathered{}

	// Where parts were not agreed on, they are no messages (RFC 7383 §2.3).
	s.parts = false
	before = w.l.Counters.Undecryptable
	require.Empty(t, part(expect, 1, 1, first, chain))
	require.Equal(t, before+1, w.l.Counters.Undecryptable)
	s.parts = true

	// Cut anew into more parts: those take the place of the ones from before, whose rest says nothing.
	require.Empty(t, part(expect, 1, 2, first, chain[:half]))
	require.Empty(t, part(expect, 1, 3, first, chain[:10]))
	require.Empty(t, part(expect, 2, 2, plNone, chain[half:]))
	require.Empty(t, part(expect, 3, 3, plNone, chain[half:]))
	require.Empty(t, part(expect, 3, 3, plNone, bytes.Repeat([]byte{7}, 9)), "the same once more, otherwise: the first holds")
	outs := part(expect, 2, 3, plNone, chain[10:half])
	require.Len(t, outs, 1)
	require.Equal(t, expect+1, s.win.expect)
	require.Empty(t, part(expect, 2, 3, plNone, chain[10:half]), "answered already")
	require.Equal(t, outs, part(expect, 1, 3, first, chain[:10]), "the first part asks for the answer again")

	// Whole, and malformed: as any other message that is.
	require.Empty(t, part(expect+1, 1, 2, first, chain[:half]))
	outs = part(expect+1, 2, 2, plNone, chain[half:len(chain)-1])
	_, down := outs[len(outs)-1].(Down)
	require.True(t, down)

	// More than anybody has to say: it is told, and does not vanish.
	w = newWorld(t, nil)
	w.login()
	up, _ = find[Up](w)
	expect, outs = w.l.sas[uint64(up.ID)].win.expect, nil
	for n := 1; n <= partsOctets/1000+1; n++ {
		require.Empty(t, outs, n)
		kind := plNone
		if n == 1 {
			kind = first
		}
		outs = part(expect, n, partsMost, kind, make([]byte, 1000))
	}
	_, down = outs[len(outs)-1].(Down)
	require.True(t, down)
}
