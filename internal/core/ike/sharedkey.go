package ike

import (
	"crypto/hmac"
	"errors"
	"time"

	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// Mixing is whether a tunnel mixes keys into those for traffic that it shares with people (RFC 8784): then traffic that somebody records
// today cannot be read later with a quantum computer. The login itself can be.
type Mixing int

// The ways.
const (
	MixesNothing Mixing = iota
	MixesOffered        // where the device names a key
	MixesAlways         // devices that name none are refused
)

// fixedKeyID is the kind of name of a mixed-in key that both sides know beforehand, PPK_ID_FIXED (RFC 8784 §5.1).
const fixedKeyID = 2

// MixedIn is a key that a device shares with its gateway beside what it logs in with.
type MixedIn struct {
	Identity string // what the key is called
	Secret   []byte
	Demand   bool // rather no session than one without it
}

// mixedIn gives the keys that come of mixing a shared one in (RFC 8784 §3). Those that protect IKE messages stay what they are.
func (k *keys) mixedIn(shared []byte) *keys {
	out := *k
	plus := func(b []byte) []byte { return k.suite.prf.plus(shared, b, len(b)) }
	out.d, out.pi, out.pr = plus(k.d), plus(k.pi), plus(k.pr)
	return &out
}

// mixes tells whether any tunnel mixes keys in: which one is asked for is not known yet.
func (s Settings) mixes() bool {
	for _, t := range s.tunnels() {
		if t.Mixing != MixesNothing {
			return true
		}
	}
	return false
}

// askShared asks for a shared key, and goes on with it.
func (r *login) askShared(ask AskShared, then func(conversation.Shared)) {
	ask.ID, ask.From = r.id, r.peer
	r.awaits, r.withShared = awaitsShared, then
	r.l.emit(ask)
}

// Shared takes the answer to AskShared.
func (l *Listener) Shared(id ID, s conversation.Shared) []Output {
	if r := l.byID[id]; r != nil && r.awaits == awaitsShared {
		then := r.withShared
		r.awaits, r.withShared = awaitsNothing, nil
		then(s)
	}
	return l.take()
}

// mixIn settles what goes into the keys before AUTH is looked at: then is given the AUTH data that counts by those keys (RFC 8784 §3). A
// device that names a key may say what AUTH would be without, for a gateway that does not know it.
func (r *login) mixIn(m *message, data []byte, then func(data []byte)) {
	name, named := m.notified(nMixedIdentity)
	without, either := m.notified(nWithoutMixed)
	demanded := r.tunnel.Mixing == MixesAlways
	without = append([]byte{}, without...)
	plain := func(why reason.Reason) {
		switch {
		case demanded || named && !either:
			r.fail(nAuthenticationFailed, why)
		case named:
			then(without)
		default:
			then(data)
		}
	}
	if !named || !r.mixes || r.tunnel.Mixing == MixesNothing || len(name) < 2 || name[0] != fixedKeyID {
		plain(reason.Of(reason.MixedKeyMissing, reason.With{reason.Tunnel: r.tunnel.ID}))
		return
	}
	r.askShared(AskShared{MixedIn: true, Identity: string(name[1:])}, func(s conversation.Shared) {
		switch {
		case s.OK:
			r.sa.keys, r.mixedBy, r.sharedIDs = r.sa.keys.mixedIn(s.Secret), s.User, append(r.sharedIDs, s.ID)
			then(data)
		case s.Why.Code == reason.LoginsLater: // nobody decides: the device tries again
			r.postpone(s.Why)
		default:
			plain(s.Why)
		}
	})
}

// mixedRightly tells whether the key that was mixed in is that of who has logged in.
func (r *login) mixedRightly() bool { return r.mixedBy == "" || r.mixedBy == r.user }

// authByShared checks AUTH of somebody who proves who they are by a key that they share with the gateway (RFC 7296 §2.15): whose it is is
// the identity that the device claims, and it is only theirs.
func (r *login) authByShared(data []byte) {
	r.askShared(AskShared{Identity: r.device()}, func(s conversation.Shared) {
		if s.Why.Code == reason.LoginsLater {
			r.postpone(s.Why)
			return
		}
		r.known, r.user = s.Known, printable([]byte(s.User))
		want := r.sa.keys.keyAuth(s.Secret, r.sa.keys.signedOctets(r.initRequest, r.nr, r.sa.keys.pi, r.idBody))
		switch right := hmac.Equal(data, want); {
		case !s.OK:
			r.fail(nAuthenticationFailed, s.Why)
		case !right:
			r.fail(nAuthenticationFailed, reason.Of(reason.WrongSharedKey, nil))
		default:
			r.user, r.groups, r.limits, r.stamp, r.coded = s.User, s.Groups, s.Limits, s.Stamp, s.Coded
			r.shared, r.sharedIDs = s.Secret, append(r.sharedIDs, s.ID)
			r.askLease()
		}
	})
}

var (
	errNotMixed = errors.New("ike: the gateway mixes no shared key in, which this connection demands")
	errByShared = errors.New("ike: the gateway does not prove that it has the shared key")
)

// naming adds to what a device proves itself with the name of the key that it mixes in, and what AUTH would be without it; proof writes
// AUTH by given keys.
func (i *Initiator) naming(ps []payload, proof func(*keys) (payload, error)) ([]payload, error) {
	if !i.mixes {
		p, err := proof(i.keys)
		return append(ps, p), err
	}
	i.mixed = i.keys.mixedIn(i.c.MixedIn.Secret)
	p, err := proof(i.mixed)
	if err != nil {
		return nil, err
	}
	ps = append(ps, p, notify{kind: nMixedIdentity, data: append([]byte{fixedKeyID}, i.c.MixedIn.Identity...)}.payload())
	if i.c.MixedIn.Demand {
		return ps, nil
	}
	plain, err := proof(i.keys)
	if err != nil {
		return nil, err
	}
	return append(ps, notify{kind: nWithoutMixed, data: plain.body[authHeader:]}.payload()), nil
}

// last is naming for a login behind another, which has settled what is mixed in.
func (i *Initiator) last(ps []payload, proof func(*keys) (payload, error)) ([]payload, error) {
	if i.c.Both {
		p, err := proof(i.keys)
		return append(ps, p), err
	}
	return i.naming(ps, proof)
}

// mixedOr settles by the gateway's answer with what keys the session goes on.
func (i *Initiator) mixedOr(m *message) error {
	_, mixed := m.notified(nMixedIdentity)
	switch {
	case i.mixed == nil:
		return nil
	case mixed:
		i.keys = i.mixed
	case i.c.MixedIn.Demand:
		return errNotMixed
	}
	i.mixedIn = mixed
	return nil
}

// byShared is AUTH by a key that the person shares with the gateway.
func (i *Initiator) byShared(k *keys) (payload, error) {
	octets := k.signedOctets(i.first, i.nr, k.pi, i.identity().body())
	return authPayload(authSharedKey, k.keyAuth(i.c.SharedKey, octets)), nil
}

// sharedAnswered takes the answer of a gateway that proves itself by the same key.
func (i *Initiator) sharedAnswered(now time.Time, m *message) {
	err := i.mixedOr(m)
	idBody, _ := m.find(plIDr)
	body, _ := m.find(plAuth)
	method, data, errAuth := parseAuth(body)
	want := i.keys.keyAuth(i.c.SharedKey, i.keys.signedOctets(i.answer, i.ni, i.keys.pr, idBody))
	if err == nil && (errAuth != nil || method != authSharedKey || !hmac.Equal(data, want)) {
		err = errByShared
	}
	if err == nil {
		err = i.calledRightly(idBody)
	}
	if err != nil {
		i.send(now, informational, notify{kind: nAuthenticationFailed}.payload())
		i.fail(err)
		return
	}
	i.idr = append([]byte{}, idBody...)
	i.takeUp(now, m)
}
