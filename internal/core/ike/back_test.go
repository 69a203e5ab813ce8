package ike

import (
	"bytes"
	"crypto/rand"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

var secrets = Secrets{
	Crash:   bytes.Repeat([]byte{3}, 32),
	Tickets: []TicketKey{{ID: 7, Key: bytes.Repeat([]byte{4}, 32)}, {ID: 6, Key: bytes.Repeat([]byte{5}, 32)}},
}

// remembering is a gateway that keeps secrets, with a person who has logged in and holds a ticket.
func remembering(t testing.TB) (*world, *Ticket) {
	w := newWorld(t, func(s *Settings, c *Caller) { s.Secrets, c.Device = secrets, "cray-23" })
	w.grant.Remember, w.grant.Until = []byte("rory, revision 4"), w.now.Add(time.Hour)
	w.back = func(b []byte) conversation.Outcome {
		require.Equal(t, "rory, revision 4", string(b))
		return conversation.Outcome{OK: true, User: user, Known: true, Groups: []string{"researchers"}, Stamp: "now"}
	}
	w.login()
	up, ok := find[Established](w)
	require.True(t, ok, "%v", w.failure())
	require.NotNil(t, up.Ticket)
	require.False(t, up.Back)
	require.Equal(t, w.now.Add(time.Hour), up.Ticket.Until)
	return w, up.Ticket
}

// again starts gateway and device anew, the device with a ticket.
func (w *world) again(t testing.TB, ticket *Ticket, change func(*Settings)) {
	set := w.l.set
	if change != nil {
		change(&set)
	}
	var err error
	w.l, err = NewListener(set)
	require.NoError(t, err)
	c := w.i.c
	c.Ticket = ticket
	w.i, err = NewInitiator(c)
	require.NoError(t, err)
	w.events, w.wire, w.asked = nil, nil, nil
}

// Who has a ticket comes back in two round trips, without logging in, and is admitted anew; with it comes the next ticket.
func TestBackByTicket(t *testing.T) {
	w, ticket := remembering(t)
	w.again(t, ticket, nil)
	w.now = w.now.Add(59 * time.Minute)
	w.grant.Until = w.now.Add(time.Hour)
	w.login()
	est, ok := find[Established](w)
	require.True(t, ok, "%v", w.failure())
	require.Len(t, w.wire, 4)
	require.True(t, est.Back)
	require.NotNil(t, est.Ticket)
	require.NotEqual(t, ticket.opaque, est.Ticket.opaque)
	require.Equal(t, []AskLease{{
		ID: w.asked[0].ID, User: user, Groups: []string{"researchers"}, Suite: ticket.suite.String(), From: w.asked[0].From, Device: "cray-23",
		Alone: true, Stamp: "now", Back: w.grant.Remember, Want4: 1, Want6: 1,
	}}, w.asked)
	w.run(w.i.Alive(w.now), true)
	require.False(t, w.i.Waiting())
	// Derived once more from RFC 5723 §5.1 alone.
	prf := func(key []byte, data ...[]byte) []byte { return ticket.suite.prf.sum(key, data...) }
	s := w.i.b.cur
	seed := prf(ticket.d, []byte("Resumption"), w.i.ni, w.i.nr)
	require.Equal(t, deriveKeys(s.suite, seed, w.i.ni, w.i.nr, s.spiI, s.spiR).d, s.keys.d)

	w.again(t, est.Ticket, nil)
	w.login()
	est, _ = find[Established](w)
	require.True(t, est.Back, "and again")
}

// A ticket that is too old, altered, another gateway's, of a tunnel that has become another, or of somebody who may come back no more is
// worth nothing: the device logs in instead. So is one by which somebody else tries.
func TestTicketsThatDie(t *testing.T) {
	for what, spoil := range map[string]func(w *world, ticket *Ticket, set *Settings){
		"too old":        func(w *world, _ *Ticket, _ *Settings) { w.now = w.now.Add(time.Hour) },
		"altered":        func(_ *world, ticket *Ticket, _ *Settings) { ticket.opaque[len(ticket.opaque)-1] ^= 1 },
		"cut":            func(_ *world, ticket *Ticket, _ *Settings) { ticket.opaque = ticket.opaque[:9] },
		"another key":    func(_ *world, _ *Ticket, set *Settings) { set.Secrets.Tickets = secrets.Tickets[1:] },
		"no keys":        func(_ *world, _ *Ticket, set *Settings) { set.Secrets = Secrets{} },
		"another tunnel": func(_ *world, _ *Ticket, set *Settings) { set.ID = "other" },
		"algorithms":     func(_ *world, _ *Ticket, set *Settings) { set.Algorithms = onlyP },
		"another device": func(w *world, _ *Ticket, _ *Settings) { w.i.c.Device = "other-9" },
		"person": func(w *world, _ *Ticket, _ *Settings) {
			w.back = func([]byte) conversation.Outcome {
				return conversation.Outcome{User: user, Known: true, Why: reason.Of(reason.LoginAnew, nil)}
			}
		},
		"another gateway": func(_ *world, _ *Ticket, set *Settings) {
			set.Secrets.Tickets = []TicketKey{{ID: 7, Key: bytes.Repeat([]byte{9}, 32)}}
		},
	} {
		t.Run(what, func(t *testing.T) {
			w, ticket := remembering(t)
			w.again(t, ticket, func(s *Settings) { spoil(w, ticket, s) })
			w.login()
			est, ok := find[Established](w)
			require.True(t, ok, "%v", w.failure())
			require.False(t, est.Back)
			require.Equal(t, 1, w.l.Sessions())
			require.Empty(t, w.asked[0].Back)
		})
	}
	w, ticket := remembering(t)
	w.kept = "another password, so that it shows"
	w.again(t, ticket, nil)
	w.back = func([]byte) conversation.Outcome { return conversation.Outcome{} }
	w.login()
	require.ErrorContains(t, w.failure(), "password is wrong")

	w, ticket = remembering(t) // it is of one tunnel, and the device asks for another
	w.again(t, ticket, nil)
	w.i.c.Name = "elsewhere.tern.example"
	w.login()
	require.True(t, slices.ContainsFunc(w.events, func(o Output) bool {
		n, ok := o.(Note)
		return ok && n.Reason.Code == reason.LoginAnew && strings.Contains(n.Reason.Words(), `it asks for "elsewhere.tern.example"`)
	}))
	require.Zero(t, w.l.Sessions())

	w, ticket = remembering(t) // stolen on the way: its keys are not in it
	ticket.d = bytes.Repeat([]byte{1}, len(ticket.d))
	w.again(t, ticket, nil)
	w.login()
	require.Zero(t, w.l.Sessions())
	require.NotZero(t, w.l.Counters.Undecryptable)
}

// Messages of a way back that are lost are sent again; a cookie is asked for where many log in.
func TestBackIsLossy(t *testing.T) {
	for lost := range 4 {
		w, ticket := remembering(t)
		w.again(t, ticket, func(s *Settings) { s.CookieAbove = 0 })
		w.lose = func(n int, _ bool) bool { return n == lost+1 }
		w.login()
		for range 50 {
			w.now = w.now.Add(300 * time.Millisecond)
			w.run(w.i.Tick(w.now), true)
		}
		est, ok := find[Established](w)
		require.True(t, ok, "%v", w.failure())
		require.True(t, est.Back)
		require.Equal(t, uint64(1), min(w.l.Counters.Cookies, 1))
	}
}

// A gateway that started again says so in a way that nobody else can, also of an IKE SA that was renewed by either side.
func TestForgottenSessions(t *testing.T) {
	for _, renew := range []string{"", "gateway", "device"} {
		u := newUnruly(t, func(s *Settings, c *Caller) { s.Secrets = secrets })
		u.now = u.now.Add(time.Minute)
		switch renew {
		case "gateway":
			u.bond(true).renewIKE(u.now)
			u.take(true, u.l.take())
		case "device":
			u.bond(false).renewIKE(u.now)
			u.take(false, u.i.take())
		}
		u.settle()
		require.Empty(t, u.failure())
		set := u.l.set
		set.Secrets.Crash = bytes.Repeat([]byte{8}, 32)
		for _, other := range []bool{true, false} { // another gateway at that address has no such secret
			if !other {
				set.Secrets = secrets
			}
			u.l = must(NewListener(set))
			u.i.b.cur.win.drop()
			u.take(false, u.i.Alive(u.now))
			for len(u.flying) > 0 {
				u.deliver(0)
			}
			require.Equal(t, other, len(u.ends) == 0)
		}
		require.ErrorIs(t, u.ends[0].(Failed).Err, ErrForgot)
	}
}

// What anybody can send makes a device ask, now and then, and no more; what came by no session is told to few.
func TestHints(t *testing.T) {
	w := newWorld(t, nil)
	w.login()
	up, _ := find[Established](w)
	hint := UnknownSPI(rand.Reader, up.Child.Out)
	require.Empty(t, w.i.Handle(w.now, UnknownSPI(rand.Reader, up.Child.Out+1)), "of no association of its own")
	require.Len(t, w.i.Handle(w.now, hint), 1)
	require.True(t, w.i.Waiting())
	w.i.b.cur.win.out = nil
	require.Empty(t, w.i.Handle(w.now.Add(time.Second), hint), "not so soon again")
	require.Len(t, w.i.Handle(w.now.Add(doubtEvery), hint), 1)

	w = newWorld(t, func(s *Settings, _ *Caller) { s.Secrets = secrets })
	w.login()
	w.l = must(NewListener(w.l.set))
	told := 0
	for n := range 300 {
		m := w.i.Alive(w.now)
		if len(m) == 0 {
			w.i.b.cur.win.out = nil
			continue
		}
		from := Peer{Addr: netip.AddrPortFrom(device.Addr.Addr(), uint16(n+1))}
		told += len(w.l.Handle(w.now, from, m[0].(Send).Data))
		w.i.b.cur.win.out = nil
	}
	require.Equal(t, mostTold, told)
}

// Whatever a stranger changes in the header of a message of a session that stands, or of a login under way, the gateway does not say that
// it is gone.
func TestNobodyIsToldOfWhatStands(t *testing.T) {
	for _, during := range []bool{false, true} {
		w := newWorld(t, func(s *Settings, _ *Caller) { s.Secrets = secrets })
		if during {
			w.lose = func(n int, fromDevice bool) bool { return n == 3 } // the first sealed one
		}
		w.login()
		sealed := w.wire[2]
		if !during {
			sealed = w.i.Alive(w.now)[0].(Send).Data
		}
		for _, flags := range []byte{0, flagInitiator} {
			for _, swap := range []bool{false, true} {
				b := bytes.Clone(sealed)
				b[19] = flags
				if swap {
					copy(b, append(bytes.Clone(sealed[8:16]), sealed[:8]...))
				}
				for _, o := range w.l.Handle(w.now, Peer{Addr: netip.MustParseAddrPort("198.51.100.66:4500"), NATT: true}, b) {
					send, ok := o.(Send)
					if !ok {
						continue
					}
					m, err := parseMessage(send.Data)
					require.NoError(t, err)
					_, told := m.notified(nCrashToken)
					require.False(t, told, "during the login: %v, flags %x, swapped: %v", during, flags, swap)
				}
			}
		}
	}
}
