package ike

import (
	"encoding/binary"
	"net/netip"
	"slices"
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
		closing := must(w.i.keys.open(must(parseMessage(w.wire[len(w.wire)-1])), false, true))
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
				return must(s.keys.open(must(parseMessage(x.Data)), false, true)), outs
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
	// Nor is it carried elsewhere by a ticket: the device logs in there, whether its passage said so when it got the ticket or says so now.
	for _, before := range []bool{true, false} {
		for _, to := range []string{"203.0.113.45:50001", "203.0.113.46:4500"} {
			w, _ := remembering(t)
			w.again(t, nil, nil)
			w.grant.OnePlace = before
			w.login()
			est, _ := find[Established](w)
			require.NotNil(t, est.Ticket)
			w.again(t, est.Ticket, nil)
			w.grant.OnePlace = true
			at := w.from.Addr
			w.from = Peer{Addr: netip.MustParseAddrPort(to), NATT: true}
			w.login()
			est, ok := find[Established](w)
			require.True(t, ok, "%v", w.failure())
			require.Equal(t, at.Addr() == w.from.Addr.Addr(), est.Back, "%v %s", before, to)
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

// Where a device turns up, a cookie is sent, and until it comes back from there nothing shows that the device receives what goes there.
func TestPlaceIsProved(t *testing.T) {
	begun := func(moves bool) (*world, Up) {
		w := newWorld(t, nil)
		w.login()
		up, _ := find[Up](w)
		require.True(t, up.ID != 0 && !up.Unproved && w.l.sessions[up.ID].tellsMoves)
		w.l.sessions[up.ID].tellsMoves = moves
		return w, up
	}
	sent := func(outs []Output) (out []Send) {
		for _, o := range outs {
			if x, ok := o.(Send); ok {
				out = append(out, x)
			}
		}
		return out
	}
	here := Peer{Addr: netip.MustParseAddrPort("203.0.113.45:50001"), NATT: true}
	there := Peer{Addr: netip.MustParseAddrPort("198.51.100.9:4500"), NATT: true}

	w, up := begun(true)
	outs := w.l.Heard(w.now, up.ID, there, true)
	tried := sent(outs)
	require.Len(t, tried, 1)
	require.Equal(t, there, tried[0].To, "it is tried where the device says that it is")
	require.Empty(t, sent(w.l.Heard(w.now, up.ID, there, true)), "once at a time")
	answer := sent(w.i.Handle(w.now, tried[0].Data))[0].Data
	require.Contains(t, w.l.Handle(w.now, there, answer), Proved{up.ID, there})
	require.Empty(t, w.l.Heard(w.now, up.ID, there, false))

	// What was asked at one place and is answered after a move shows nothing: it is asked again, also back where it began.
	tried = sent(w.l.Heard(w.now, up.ID, here, true))
	w.l.Heard(w.now, up.ID, there, true)
	w.l.Heard(w.now, up.ID, here, true)
	outs = w.l.Handle(w.now, here, sent(w.i.Handle(w.now, tried[0].Data))[0].Data)
	require.NotContains(t, outs, Proved{up.ID, here})
	tried = sent(outs)
	require.Len(t, tried, 1)
	require.Contains(t, w.l.Handle(w.now, here, sent(w.i.Handle(w.now, tried[0].Data))[0].Data), Proved{up.ID, here})
	// A connection from there shows it by itself, and a place that the path of packets doubts is tried again.
	tcp := Peer{Addr: netip.MustParseAddrPort("198.51.100.9:40000"), NATT: true, TCP: true}
	outs = w.l.Heard(w.now, up.ID, tcp, false)
	require.Contains(t, outs, Proved{up.ID, tcp})
	require.Empty(t, sent(outs))
	require.Len(t, sent(w.l.Heard(w.now, up.ID, tcp, true)), 1)

	for _, c := range []struct {
		name           string
		moves          bool
		returned       []payload
		proved, stands bool
	}{
		{"another cookie", true, []payload{notify{kind: nCookie2, data: make([]byte, cookie2Len)}.payload()}, false, false},
		{"another cookie, without MOBIKE", false, []payload{notify{kind: nCookie2, data: make([]byte, cookie2Len)}.payload()}, false, false},
		{"none", true, nil, false, false},
		{"none, without MOBIKE", false, nil, true, true},
	} {
		w, up := begun(c.moves)
		require.Len(t, sent(w.l.Heard(w.now, up.ID, there, true)), 1)
		s := w.i.b.cur
		outs := w.l.Handle(w.now, there, s.seal(informational, s.win.expect, flagResponse, c.returned, false)[0])
		require.Equal(t, c.proved, slices.Contains(outs, Output(Proved{up.ID, there})), c.name)
		require.Equal(t, c.stands, w.l.Sessions() == 1, c.name)
		for _, o := range outs {
			if down, ok := o.(Down); ok {
				require.Equal(t, reason.WayUnproved, down.Reason.Code, c.name)
			}
		}
	}

	// The last message of a login may come from elsewhere, which nothing was sent to yet.
	messages := 0
	w = newWorld(t, nil)
	w.lose = func(_ int, fromDevice bool) bool {
		if fromDevice {
			messages++
		}
		return false
	}
	w.login()
	w = newWorld(t, nil)
	last := until(w, messages)
	w.from = there
	w.run([]Output{Send{Data: last}}, true)
	up, ok := find[Up](w)
	require.True(t, ok && up.Unproved)
	proved, ok := find[Proved](w)
	require.True(t, ok)
	require.Equal(t, Proved{up.ID, there}, proved)
}
