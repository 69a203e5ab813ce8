package ike

import (
	"crypto/hmac"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/crowd"
	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// back answers IKE_SESSION_RESUME: a device shows a ticket and comes back without a key exchange and without logging in anew (RFC 5723
// §4.3). Whom it is about is asked once it has shown that it has the ticket's keys, and is admitted, or not, like anybody else.
func (l *Listener) back(now time.Time, from Peer, m *message) {
	if !l.begins(from, m) {
		return
	}
	nonce, _ := m.find(plNonce)
	opaque, ok := m.notified(nTicket)
	if !ok || len(nonce) < 16 || len(nonce) > 256 || m.doubled() {
		l.Counters.Malformed++
		l.refuseInit(from, m, notify{kind: nInvalidSyntax}.payload())
		return
	}
	if !l.room(now, from, m, nonce, false) {
		return
	}
	t, ok := l.set.Secrets.open(now, opaque)
	suite, known := suiteOf(t.Suite)
	all := l.tunnels
	n := slices.IndexFunc(all, func(x *Tunnel) bool { return x.ID == t.Tunnel && strings.EqualFold(x.Name, t.Name) })
	if !ok || !known || n < 0 || !all[n].Algorithms.allows(suite) || !goodNonce(nonce, suite.prf) ||
		t.OnePlace && t.Place != l.place(from) {
		l.Counters.Tickets++
		l.refuseInit(from, m, notify{kind: nTicketRefused}.payload())
		return
	}
	r := l.begin(now, from, m, nonce, suite)
	if r == nil {
		return
	}
	r.tunnel, r.ticket, r.stage = all[n], &t, opened
	r.sa.keys, r.sa.win.expect = resumedKeys(suite, t.D, r.ni, r.nr, r.sa.spiI, r.sa.spiR), 1
	r.welcome([]payload{{kind: plNonce, body: r.nr}})
}

// authBack checks that who shows a ticket has its keys, and asks who it is.
func (r *login) authBack(m *message, idBody []byte) {
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	want := r.sa.keys.backAuth(r.sa.keys.pi, r.sa.keys.signedOctets(r.initRequest, r.nr, r.sa.keys.pi, idBody))
	if err != nil || method != authSharedKey || !hmac.Equal(data, want) || string(idBody) != string(r.ticket.ID) {
		r.fail(nAuthenticationFailed, reason.Of(reason.WrongProof, nil))
		return
	}
	if body, ok := m.find(plIDr); ok { // a ticket is of one tunnel: a device that asks for another logs in there
		asked, err := parseID(body)
		if err != nil || asked.kind == idFQDN && !strings.EqualFold(asked.String(), r.ticket.Name) {
			r.fail(nAuthenticationFailed, reason.Of(reason.LoginAnew, reason.With{
				reason.What: fmt.Sprintf("its ticket is of %q, and it asks for %.80q", r.ticket.Name, asked.String()),
			}))
			return
		}
	}
	r.awaits = awaitsLogin
	r.l.emit(AskBack{r.id, r.ticket.Remember})
}

// Back takes the answer to AskBack.
func (l *Listener) Back(_ time.Time, id ID, o conversation.Outcome) []Output {
	r := l.byID[id]
	if r == nil || r.awaits != awaitsLogin || r.ticket == nil {
		return l.take()
	}
	r.awaits, r.known, r.user = awaitsNothing, o.Known, printable([]byte(o.User))
	if !o.OK {
		r.fail(nAuthenticationFailed, o.Why)
		return l.take()
	}
	r.user, r.groups, r.limits, r.stamp = o.User, o.Groups, o.Limits, o.Stamp
	r.askLease()
	return l.take()
}

// closing proves to who logged in that they speak with whom they spoke before.
func (r *login) closing() []payload {
	id := identityFor(r.tunnel.Name).body()
	octets := r.sa.keys.signedOctets(r.initResponse, r.ni, r.sa.keys.pr, id)
	if r.ticket != nil {
		return []payload{{kind: plIDr, body: id}, authPayload(authSharedKey, r.sa.keys.backAuth(r.sa.keys.pr, octets))}
	}
	var ps []payload
	switch {
	case r.another:
		return []payload{authPayload(authSharedKey, r.sa.keys.keyAuth(r.msk, octets))}
	case r.shown.PublicKey != nil && r.msk == nil: // a key that was shown inside a conversation has left another behind
		return r.proven()
	case r.shared != nil:
		ps = []payload{{kind: plIDr, body: id}, authPayload(authSharedKey, r.sa.keys.keyAuth(r.shared, octets))}
	default:
		ps = []payload{authPayload(authSharedKey, r.sa.keys.keyAuth(r.msk, octets))}
	}
	if r.mixedBy != "" {
		ps = append(ps, notify{kind: nMixedIdentity}.payload())
	}
	return ps
}

// remembering is what the device may come back by, if it asked for it.
func (r *login) remembering(now time.Time, g Grant) []payload {
	if !r.wantsTicket || g.Remember == nil || !now.Before(g.Until) {
		return nil
	}
	sealed := r.l.set.Secrets.seal(r.l.set.Rand, ticket{
		Tunnel: r.tunnel.ID, Name: r.tunnel.Name, ID: r.idBody, D: r.sa.keys.d, Suite: r.sa.suite.numbers(), Remember: g.Remember, Until: g.Until,
		Mixed: r.mixedBy != "" || r.ticket != nil && r.ticket.Mixed, Place: r.l.place(r.peer), OnePlace: g.OnePlace,
	})
	if sealed == nil {
		return []payload{notify{kind: nTicketRefused}.payload()}
	}
	return []payload{lasting(now, g.Until, sealed)}
}

// place is where a peer is, as strangers are told apart.
func (l *Listener) place(of Peer) netip.Prefix { return crowd.Source(l.sourceOf(of)) }

// Ticket is what a device comes back by. It is as secret as a password.
type Ticket struct {
	opaque []byte
	d      []byte
	suite  Suite
	idr    []byte
	Until  time.Time
}

// sendBack asks to come back.
func (i *Initiator) sendBack(now time.Time) {
	var ps []payload
	if i.cookie != nil {
		ps = append(ps, notify{kind: nCookie, data: i.cookie}.payload())
	}
	ps = append(ps, payload{kind: plNonce, body: i.ni}, notify{kind: nTicket, data: i.c.Ticket.opaque}.payload(),
		notify{kind: nNATSource, data: natHash(i.spiI, 0, i.c.Local)}.payload(),
		notify{kind: nNATDestination, data: natHash(i.spiI, 0, i.c.Remote)}.payload(), notify{kind: nFragments}.payload())
	m := &message{header: header{spiI: i.spiI, exchange: ikeSessionResume, flags: flagInitiator}, payloads: ps}
	i.first = m.marshal()
	i.sendRaw(now, [][]byte{i.first})
}

// backAnswered takes the answer to that. A ticket that counts no more is left for a login.
func (i *Initiator) backAnswered(now time.Time, m *message) {
	if cookie, ok := m.notified(nCookie); ok {
		i.cookie = append([]byte{}, cookie...)
		i.sendBack(now)
		return
	}
	if _, refused := m.notified(nTicketRefused); refused {
		i.logInInstead(now)
		return
	}
	if _, failed := m.failure(); failed {
		i.logInInstead(now)
		return
	}
	nonce, _ := m.find(plNonce)
	if !goodNonce(nonce, i.c.Ticket.suite.prf) || m.spiR == 0 {
		return
	}
	t := i.c.Ticket
	i.suite, i.idr = t.suite, t.idr
	i.answer, i.spiR, i.nr, i.request = m.raw, m.spiR, append([]byte{}, nonce...), nil
	i.keys = resumedKeys(t.suite, t.d, i.ni, i.nr, i.spiI, i.spiR)
	i.float(m)
	i.phase, i.id = phLast, 1
	auth := i.keys.backAuth(i.keys.pi, i.keys.signedOctets(i.first, i.nr, i.keys.pi, i.identity().body()))
	i.send(now, ikeAuth, append(i.wishes(), authPayload(authSharedKey, auth))...)
}

// logInInstead begins anew, with a login.
func (i *Initiator) logInInstead(now time.Time) {
	i.c.Ticket, i.cookie, i.suite = nil, nil, Suite{group: i.c.Algorithms.groups[0]}
	i.phase, i.keys, i.spiR, i.idr, i.sealed, i.heard = phInit, nil, 0, nil, 0, gathered{}
	_, _ = io.ReadFull(i.c.Rand, i.ni)
	i.spiI++
	i.sendInit(now)
}
