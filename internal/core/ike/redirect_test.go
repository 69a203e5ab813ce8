package ike

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// A device that follows is sent on once the gateway has proved who it is; one that was sent here by that other gateway, or that does not
// follow, is served. Nobody is sent to what is no gateway.
func TestSentOn(t *testing.T) {
	for _, to := range []string{"other.tern.example", "192.0.2.11", "2001:db8:10::11"} {
		w := newWorld(t, func(s *Settings, _ *Caller) { s.SendTo = to })
		w.login()
		require.Equal(t, RedirectedError{to}, w.failure())
		note, ok := find[Note](w)
		require.True(t, ok)
		require.Equal(t, reason.SentOn, note.Reason.Code)
		require.Zero(t, w.l.HalfOpen()+w.l.Sessions())
		_, asked := find[Up](w)
		require.False(t, asked)

		w = newWorld(t, func(s *Settings, c *Caller) { s.SendTo, c.SentBy = to, to })
		w.login()
		require.NoError(t, w.failure())
		w = newWorld(t, func(s *Settings, c *Caller) { s.SendTo, c.SentBy = to, "third.tern.example" })
		w.login()
		require.Error(t, w.failure(), "how often is bounded by the device")
	}
	// So is one that proves itself by a key; nobody is sent on by who has not proved to be the gateway.
	for _, proves := range []bool{true, false} {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.Proof, s.SendTo = ByPublicKey, "other.tern.example"
			c.Key, c.Password = must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader)), ""
			if !proves {
				c.Roots = x509.NewCertPool()
			}
		})
		w.login()
		if proves {
			require.Equal(t, RedirectedError{"other.tern.example"}, w.failure())
		} else {
			require.ErrorIs(t, w.failure(), ErrCertificate)
		}
	}
	for _, bad := range [][]byte{
		nil, {3}, {3, 5, 'a'}, {1, 16}, {3, 0}, {9, 1, 'a'}, {3, 3, 'a', ' ', 'b'}, append([]byte{1, 16}, make([]byte, 16)...),
	} {
		_, ok := gatewayIn(bad)
		require.False(t, ok, "%v", bad)
	}
}

// A device that asks for no Child SA yet stands, and makes one later.
func TestChildless(t *testing.T) {
	w := newWorld(t, nil)
	until(w, 2)
	told := must(parseMessage(w.wire[1]))
	_, offers := told.notified(nChildless)
	require.True(t, offers)
	w.i.phase, w.i.id, w.i.request = phFirst, 1, nil
	w.i.send(w.now, ikeAuth, payload{kind: plIDi, body: w.i.identity().body()}, requestCfg(1))
	w.run(w.i.take(), true)
	up, ok := find[Up](w)
	require.True(t, ok, "%v", w.events)
	require.Zero(t, up.Child.In)
	require.Equal(t, given.Addresses, up.Addresses)
	require.Equal(t, 1, w.l.Sessions())

	w.i.bond(w.now, netset.Everywhere, routes)
	w.i.phase = phUp
	ask := func(ps ...payload) (*message, []Output) {
		return w.ask(createChildSA, append([]payload{
			saPayload(espProposals(w.i.c.Algorithms, []byte{1, 2, 3, 4}, dhNone)...), {kind: plNonce, body: bytes.Repeat([]byte{9}, 32)},
		}, ps...)...)
	}
	answer, _ := ask(selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere))
	renewed, ok := find[Renewed](w)
	require.True(t, ok, "%+v", answer)
	require.Equal(t, uint32(0x01020304), renewed.Child.Out)
	require.True(t, renewed.Child.Local.Equal(routes))
	require.True(t, renewed.Child.Remote.Equal(netset.OfAddrs(given.Addresses...)))

	half := newWorld(t, nil) // a part of it only
	until(half, 2)
	half.i.phase, half.i.id, half.i.request = phFirst, 1, nil
	half.i.send(half.now, ikeAuth, payload{kind: plIDi, body: half.i.identity().body()}, requestCfg(1), selectors(plTSi, netset.Everywhere))
	half.run(half.i.take(), true)
	require.ErrorContains(t, half.failure(), "INVALID_SYNTAX")
}
