package ike

import (
	"crypto"
	"crypto/sha1"
	"crypto/x509"
	"errors"
	"time"

	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// Proof is how people prove who they are by a tunnel.
type Proof int

// The ways.
const (
	ByPassword    Proof = iota // EAP
	ByCertificate              // AUTH with the key of a certificate (RFC 7296 §2.15)
	ByPublicKey                // AUTH with a key that is known without one (RFC 7670)
	BySharedKey                // AUTH, of both sides, with a key that both know (RFC 7296 §2.15)
	ByBoth                     // AUTH with the key of a certificate, then EAP of the same person (RFC 4739)
)

const (
	certRawKey   = 15 // Raw Public Key, RFC 7670 §3
	mostCerts    = 6  // that a device shows
	mostCertSize = 8 << 10
)

// Shown is the key by which somebody proves who they are: that they have it is settled, whose it is is not.
type Shown struct {
	PublicKey []byte   // SubjectPublicKeyInfo, DER
	Chain     [][]byte // certificates, DER, the person's first; none: a raw key
}

// requests asks for certificates of the authorities that people's are of (RFC 7296 §3.7): several systems' own clients send none unasked.
func (t Tunnel) requests() []payload {
	if t.Proof != ByCertificate && t.Proof != ByBoth || len(t.Authorities) == 0 {
		return nil
	}
	body := []byte{certX509}
	for _, a := range t.Authorities {
		sum := sha1.Sum(a.RawSubjectPublicKeyInfo)
		body = append(body, sum[:]...)
	}
	return []payload{{kind: plCertReq, body: body}}
}

// shownIn reads the key that a message shows.
func shownIn(m *message) (s Shown, key crypto.PublicKey, err error) {
	size := 0
	for _, p := range m.payloads {
		if p.kind != plCert || len(p.body) < 2 {
			continue
		}
		if size += len(p.body); size > mostCertSize || len(s.Chain) >= mostCerts {
			return s, nil, errMalformed
		}
		der := append([]byte{}, p.body[1:]...)
		switch p.body[0] {
		case certX509:
			c, err := x509.ParseCertificate(der)
			if err != nil {
				return s, nil, err
			}
			if s.Chain = append(s.Chain, der); len(s.Chain) == 1 {
				s.PublicKey, key = c.RawSubjectPublicKeyInfo, c.PublicKey
			}
		case certRawKey:
			if key, err = x509.ParsePKIXPublicKey(der); err != nil {
				return s, nil, err
			}
			s.PublicKey = der
		}
	}
	if key == nil || s.PublicKey == nil {
		return s, nil, errors.New("ike: no certificate or key was shown")
	}
	return s, key, nil
}

// authByKey takes the first message of somebody who proves who they are by a key: that they have it is worked out elsewhere, and with it
// the gateway's own proof.
func (r *login) authByKey(m *message) {
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	data = append([]byte{}, data...)
	if r.tunnel.Proof == BySharedKey {
		if err != nil || method != authSharedKey {
			r.fail(nAuthenticationFailed, reason.Of(reason.WrongLoginMethod, nil))
			return
		}
		r.mixIn(m, data, r.authByShared)
		return
	}
	shown, key, errShown := shownIn(m)
	raw := len(shown.Chain) == 0
	_, r.another = m.notified(nAnotherFollows)
	switch {
	case r.another != (r.tunnel.Proof == ByBoth):
		r.fail(nAuthenticationFailed, reason.Of(reason.WrongLoginMethod, nil))
		return
	case err != nil || errShown != nil:
		r.fail(nAuthenticationFailed, reason.Of(reason.KeyUnreadable, nil))
		return
	case raw != (r.tunnel.Proof == ByPublicKey):
		r.fail(nAuthenticationFailed, reason.Of(reason.WrongLoginMethod, nil))
		return
	}
	r.mixIn(m, data, func(data []byte) { r.verifies(shown, key, method, data) })
}

// verifies has it worked out whether somebody has the key that they show.
func (r *login) verifies(shown Shown, key crypto.PublicKey, method uint8, data []byte) {
	theirs := r.sa.keys.signedOctets(r.initRequest, r.nr, r.sa.keys.pi, r.idBody)
	ours := r.sa.keys.signedOctets(r.initResponse, r.ni, r.sa.keys.pr, identityFor(r.tunnel.Name).body())
	own, rand, hashes, sha1 := r.by.Key, r.l.set.Rand, r.hashes, r.tunnel.SHA1
	r.shown, r.awaits = shown, awaitsWork
	r.l.emit(Work{Do: func() Finish {
		wrong := verify(key, method, data, theirs)
		if wrong != nil && sha1 && method == authRSA {
			wrong = verifyRSA(key, data, theirs, crypto.SHA1)
		}
		var sig payload
		var err error
		if wrong == nil {
			sig, err = sign(rand, own, ours, hashes)
		}
		return func(time.Time) { r.verified(wrong, sig, err) }
	}})
}

// verified asks whose key it is.
func (r *login) verified(wrong error, sig payload, err error) {
	if r.awaits != awaitsWork {
		return
	}
	r.awaits = awaitsNothing
	switch {
	case wrong != nil:
		r.fail(nAuthenticationFailed, reason.Of(reason.WrongProof, nil))
		return
	case err != nil:
		r.fail(nAuthenticationFailed, reason.Of(reason.CannotSign, reason.With{reason.Error: err.Error()}))
		return
	}
	r.proof, r.awaits = sig, awaitsLogin
	r.l.emit(AskKey{r.id, r.tunnel.ID, r.shown})
}

// Owner takes the answer to AskKey.
func (l *Listener) Owner(_ time.Time, id ID, o conversation.Outcome) []Output {
	r := l.byID[id]
	if r == nil || r.awaits != awaitsLogin || r.shown.PublicKey == nil {
		return l.take()
	}
	r.awaits, r.known, r.user = awaitsNothing, o.Known, printable([]byte(o.User))
	switch {
	case o.OK && r.another: // so far it is the device
		r.owner, r.keyStamp = o.User, o.Stamp
		r.stage = anotherAwaited
		r.reply(ikeAuth, r.proven()...)
	case o.OK:
		r.user, r.groups, r.limits, r.stamp, r.coded = o.User, o.Groups, o.Limits, o.Stamp, o.Coded
		r.askLease()
	case o.Why.Code == reason.LoginsLater: // nobody decides: the device tries again
		r.refuse(o.Why, 0)
	default:
		r.fail(nAuthenticationFailed, o.Why)
	}
	return l.take()
}

// proving adds to the device's wishes the proof of who it is by its own key.
func (i *Initiator) proving(ps []payload) ([]payload, error) {
	if len(i.c.Chain) == 0 {
		der, err := x509.MarshalPKIXPublicKey(i.c.Key.Public())
		if err != nil {
			return nil, err
		}
		ps = append(ps, payload{kind: plCert, body: append([]byte{certRawKey}, der...)})
	}
	for _, der := range i.c.Chain {
		ps = append(ps, payload{kind: plCert, body: append([]byte{certX509}, der...)})
	}
	if i.c.Both {
		ps = append(ps, notify{kind: nSeveral}.payload(), notify{kind: nAnotherFollows}.payload())
	}
	return i.naming(ps, func(k *keys) (payload, error) {
		return sign(i.c.Rand, i.c.Key, k.signedOctets(i.first, i.nr, k.pi, i.identity().body()), i.hashes)
	})
}

// keyAnswered takes the gateway's answer: its own proof, and what it gives.
func (i *Initiator) keyAnswered(now time.Time, m *message) {
	err := i.mixedOr(m)
	if err == nil {
		err = i.checkGateway(m)
	}
	if err != nil {
		i.send(now, informational, notify{kind: nAuthenticationFailed}.payload())
		i.fail(err)
		return
	}
	if i.sentOn(now, m) {
		return
	}
	if i.c.Both {
		i.phase = phEAP
		i.send(now, ikeAuth, payload{kind: plIDi, body: i.identity().body()})
		return
	}
	i.established(now, m)
}

// proven is the gateway's proof of itself to who has proved to have a key.
func (r *login) proven() []payload {
	ps := r.shows()
	if r.mixedBy != "" {
		ps = append(ps, notify{kind: nMixedIdentity}.payload())
	}
	return ps
}

// authAnother takes the identity of the person who uses the device, and begins their login (RFC 4739 §2).
func (r *login) authAnother(m *message) {
	body, ok := m.find(plIDi)
	if _, err := parseID(body); !ok || err != nil {
		r.fail(nInvalidSyntax, reason.Of(reason.MalformedIdentity, nil))
		return
	}
	r.idBody = append([]byte{}, body...)
	r.ask(nil)
}
