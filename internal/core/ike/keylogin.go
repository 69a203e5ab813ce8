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

// Shown is the one key by which somebody proves who they are: that they have it is settled, whose it is is not. Its fields agree, for
// shownIn alone makes it: with a chain the key is that of the first certificate (RFC 7296 §3.6), without one it came by itself.
type Shown struct {
	PublicKey []byte   // SubjectPublicKeyInfo, DER
	Chain     [][]byte // certificates, DER, the person's first; none: a raw key

	key crypto.PublicKey // PublicKey, read: what AUTH is verified with
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

var (
	errNothingShown = errors.New("ike: no certificate or key was shown")
	errTwoKeys      = errors.New("ike: more than one key was shown")
)

// shownIn reads the key that a message shows: certificates, of which the first holds it, or one raw key. Both together are refused, for one
// could be signed with and the other believed. Certificates in other encodings are skipped, as if they were not there.
func shownIn(m *message) (Shown, error) {
	var chain, raw [][]byte
	size := 0
	for _, p := range m.payloads {
		if p.kind != plCert || len(p.body) < 2 {
			continue
		}
		if size += len(p.body); size > mostCertSize || len(chain)+len(raw) >= mostCerts {
			return Shown{}, errMalformed
		}
		switch der := append([]byte{}, p.body[1:]...); p.body[0] {
		case certX509:
			chain = append(chain, der)
		case certRawKey:
			raw = append(raw, der)
		}
	}
	switch {
	case len(chain)+len(raw) == 0:
		return Shown{}, errNothingShown
	case len(raw) > 0 && len(chain)+len(raw) > 1:
		return Shown{}, errTwoKeys
	case len(raw) == 1:
		key, err := x509.ParsePKIXPublicKey(raw[0])
		return Shown{PublicKey: raw[0], key: key}, err
	}
	s := Shown{Chain: chain}
	for n, der := range chain {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return Shown{}, err
		}
		if n == 0 {
			s.PublicKey, s.key = c.RawSubjectPublicKeyInfo, c.PublicKey
		}
	}
	return s, nil
}

// requires says in words what each way asks of a device.
var requires = map[Proof]string{
	ByPassword: "EAP", ByCertificate: "a certificate", ByPublicKey: "a public key", BySharedKey: "a shared key",
	ByBoth: "a certificate, and EAP after it",
}

// otherMethod is that the device logs in by another method than its tunnel requires.
func (r *login) otherMethod() reason.Reason {
	return reason.Of(reason.WrongLoginMethod, reason.With{reason.Tunnel: r.tunnel.ID, reason.What: requires[r.tunnel.Proof]})
}

// authByKey takes the first message of somebody who proves who they are by a key: that they have it is worked out elsewhere, and with it
// the gateway's own proof.
func (r *login) authByKey(m *message) {
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	data = append([]byte{}, data...)
	if r.tunnel.Proof == BySharedKey {
		if err != nil || method != authSharedKey {
			r.fail(nAuthenticationFailed, r.otherMethod())
			return
		}
		r.mixIn(m, data, r.authByShared)
		return
	}
	shown, errShown := shownIn(m)
	raw := len(shown.Chain) == 0
	_, r.another = m.notified(nAnotherFollows)
	switch {
	case r.another != (r.tunnel.Proof == ByBoth):
		r.fail(nAuthenticationFailed, r.otherMethod())
		return
	case err != nil || errShown != nil:
		r.fail(nAuthenticationFailed, reason.Of(reason.KeyUnreadable, nil))
		return
	case raw != (r.tunnel.Proof == ByPublicKey):
		r.fail(nAuthenticationFailed, r.otherMethod())
		return
	}
	r.mixIn(m, data, func(data []byte) { r.verifies(shown, method, data) })
}

// verifies has it worked out whether somebody has the key that they show.
func (r *login) verifies(shown Shown, method uint8, data []byte) {
	theirs := r.sa.keys.signedOctets(r.initRequest, r.nr, r.sa.keys.pi, r.idBody)
	ours := r.sa.keys.signedOctets(r.initResponse, r.ni, r.sa.keys.pr, identityFor(r.tunnel.Name).body())
	own, rand, hashes, sha1 := r.by.Key, r.l.set.Rand, r.hashes, r.tunnel.SHA1
	r.shown, r.awaits = shown, awaitsWork
	r.l.emit(Work{Do: func() Finish {
		wrong := verify(shown.key, method, data, theirs)
		if wrong != nil && sha1 && method == authRSA {
			wrong = verifyRSA(shown.key, data, theirs, crypto.SHA1)
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
	r.awaits, r.known, r.user, r.provedBy = awaitsNothing, o.Known, printable([]byte(o.User)), o.ProvedBy
	switch {
	case o.OK && r.another: // so far it is the device
		r.owner, r.keyStamp = o.User, o.Stamp
		r.stage = anotherAwaited
		r.reply(ikeAuth, r.proven()...)
	case o.OK:
		r.user, r.groups, r.limits, r.stamp, r.coded = o.User, o.Groups, o.Limits, o.Stamp, o.Coded
		r.askLease()
	case o.Why.Code == reason.LoginsLater: // nobody decides: the device tries again
		r.postpone(o.Why)
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
