package ike

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// A device that tells when it moves is told that it may, is followed before its first packet of traffic, tries the new way, and learns what
// translates there; one that forbids translations learns of one. A device that asks for none of it is told nothing of it.
func TestMoves(t *testing.T) {
	for _, asks := range []bool{true, false} {
		w := newWorld(t, nil)
		until(w, 2)
		w.i.phase, w.i.id, w.i.request = phFirst, 1, nil
		ps := []payload{
			{kind: plIDi, body: w.i.identity().body()},
			requestCfg(1),
			saPayload(espProposals(w.i.c.Algorithms, binary.BigEndian.AppendUint32(nil, w.i.childSPI), dhNone)...),
			selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere),
		}
		if asks {
			ps = append(ps, notify{kind: nMoves}.payload())
		}
		w.i.send(w.now, ikeAuth, ps...)
		w.run(w.i.take(), true)
		require.NoError(t, w.failure())
		closing := must(w.i.keys.open(must(parseMessage(w.wire[len(w.wire)-1])), false))
		_, told := closing.notified(nMoves)
		require.Equal(t, asks, told)
	}

	w := newWorld(t, nil)
	w.login()
	up, _ := find[Up](w)
	at := netip.MustParseAddrPort("203.0.113.99:40001")
	ask := func(from Peer, ps ...payload) (*message, []Output) {
		s := w.i.b.cur
		outs := w.l.Handle(w.now, from, w.sealed(informational, ps...))
		s.win.next++
		for _, o := range outs {
			if x, ok := o.(Send); ok {
				require.Equal(t, from, x.To, "the answer goes to where it is now")
				return must(s.keys.open(must(parseMessage(x.Data)), false)), outs
			}
		}
		return nil, outs
	}
	update, there := notify{kind: nUpdateAddresses}.payload(), Peer{Addr: at, NATT: true}
	answer, outs := ask(there, update, notify{kind: nCookie2, data: []byte("eight oc")}.payload(),
		notify{kind: nNATSource, data: make([]byte, 20)}.payload(), notify{kind: nNATDestination, data: make([]byte, 20)}.payload())
	require.Contains(t, outs, Moved{up.ID, Peer{Addr: at, NATT: true}})
	require.Equal(t, []byte("eight oc"), requireNotify(t, answer, nCookie2).data)
	s := w.i.b.cur
	require.Equal(t, natHash(s.spiI, s.spiR, at), requireNotify(t, answer, nNATDestination).data)
	require.NotEqual(t, natHash(s.spiI, s.spiR, w.i.c.Remote), requireNotify(t, answer, nNATSource).data)

	itself := func(a string, port uint16) []byte {
		b := append(netip.MustParseAddr(a).AsSlice(), 192, 0, 2, 10)
		return append(binary.BigEndian.AppendUint16(b, port), 0x11, 0x94)
	}
	answer, _ = ask(there, update, notify{kind: nNoNATsAllowed, data: itself("203.0.113.99", 40001)}.payload())
	require.Empty(t, answer.payloads)
	for _, other := range [][]byte{itself("192.168.77.20", 40001), itself("203.0.113.99", 4500), nil, make([]byte, 36)} {
		answer, _ = ask(there, update, notify{kind: nNoNATsAllowed, data: other}.payload())
		requireNotify(t, answer, nUnexpectedNAT)
	}
	require.Equal(t, 1, w.l.Sessions(), "the session stands")
}

// A session of one place goes on by another port, and ends when its device turns up at another address; the device is not told that it may
// move.
func TestOnePlace(t *testing.T) {
	for _, to := range []string{"203.0.113.45:50001", "203.0.113.46:4500"} {
		w := newWorld(t, nil)
		w.grant.OnePlace = true
		w.login()
		require.NoError(t, w.failure())
		_, told := w.i.Move(w.now, netip.MustParseAddrPort("203.0.113.46:4500"))
		require.False(t, told)
		from := Peer{Addr: netip.MustParseAddrPort(to), NATT: true}
		w.run(w.l.Handle(w.now, from, w.i.Alive(w.now)[0].(Send).Data), false)
		down, ended := find[Down](w)
		require.Equal(t, from.Addr.Addr() != w.from.Addr.Addr(), ended)
		if ended {
			require.Equal(t, reason.MovedElsewhere, down.Reason.Code)
			require.ErrorIs(t, w.failure(), ErrEnded, "the device is told")
		}
	}
}

// A device that moves tells the gateway from where it is now, also while something else is under way that was lost; a gateway that does not
// say that it follows is not told.
func TestDeviceMoves(t *testing.T) {
	w := newWorld(t, nil)
	w.login()
	up, _ := find[Up](w)
	w.lose = func(_ int, fromDevice bool) bool { return fromDevice }
	w.run(w.i.Alive(w.now), true) // lost on the way from where it was
	w.lose = func(int, bool) bool { return false }
	w.from = Peer{Addr: netip.MustParseAddrPort("203.0.113.99:40001"), NATT: true}
	outs, ok := w.i.Move(w.now, netip.MustParseAddrPort("192.168.50.7:4500"))
	require.True(t, ok)
	w.run(outs, true)
	w.run(w.i.Tick(w.now), true)
	moved, ok := find[Moved](w)
	require.True(t, ok)
	require.Equal(t, Moved{up.ID, w.from}, moved)
	_, ok = find[Arrived](w)
	require.True(t, ok)
	require.Equal(t, 1, w.l.Sessions())
	require.NoError(t, w.failure())

	w.i.moves = false
	_, ok = w.i.Move(w.now, netip.MustParseAddrPort("192.168.50.8:4500"))
	require.False(t, ok)
}
