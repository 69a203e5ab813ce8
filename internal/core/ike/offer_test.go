package ike

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/devices"
)

// A first message tells what a device offers, and how it begins; what is none, or cannot be read, is said.
func TestReadOffer(t *testing.T) {
	for _, p := range devices.Platforms {
		w := newWorld(t, func(_ *Settings, c *Caller) { c.Algorithms = must(PolicyOf(p.Default)) })
		data := w.i.Start(w.now)[0].(Send).Data
		o := must(ReadOffer(data))
		var all algorithm.Set
		for _, s := range o.Proposals {
			all.Encryption, all.Integrity = append(all.Encryption, s.Encryption...), append(all.Integrity, s.Integrity...)
			all.PRF, all.Groups, all.Additional = s.PRF, s.Groups, s.Additional
		}
		require.ElementsMatch(t, p.Default.Encryption, all.Encryption)
		require.ElementsMatch(t, p.Default.Integrity, all.Integrity)
		require.Equal(t, []any{p.Default.PRF, p.Default.Groups, p.Default.Additional}, []any{all.PRF, all.Groups, all.Additional})
		require.Equal(t, p.Default.Groups[0], o.Group)
		require.Equal(t, []any{true, true, false, len(p.Default.Additional) > 0}, []any{o.Parts, o.NAT, o.Cookie, o.Further})
		require.Equal(t, []string{"Ed25519's own", "SHA2-256", "SHA2-384", "SHA2-512"}, o.Hashes)
		for n := range data {
			_, err := ReadOffer(data[:n])
			require.Error(t, err)
		}
	}
	w := newWorld(t, nil)
	w.login()
	first := true
	for _, data := range w.wire {
		if _, err := ReadOffer(data); first {
			require.NoError(t, err)
			first = false
		} else {
			require.Error(t, err, "an answer, or a later message")
		}
	}
	m := must(parseMessage(w.wire[0]))
	m.payloads = append(m.payloads, payload{kind: plVendor, body: []byte{0xca, 0xfe}})
	o := must(ReadOffer(m.marshal()))
	require.Equal(t, []string{"cafe"}, o.Vendors)
	strange := ikeProposals(onlyX, nil)
	strange[0].transforms = append(strange[0].transforms, transform{kind: tEncr, id: 2}, transform{kind: tDH, id: 22})
	for n := range m.payloads {
		if m.payloads[n].kind == plSA {
			m.payloads[n] = saPayload(strange...)
		}
	}
	o = must(ReadOffer(m.marshal()))
	require.Equal(t, []string{"DES", "MODP-1024-160"}, o.Unknown)
	suite, again, ok := pThenX.Answered(o)
	require.True(t, ok && !again)
	require.Equal(t, "AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519", suite)
}
