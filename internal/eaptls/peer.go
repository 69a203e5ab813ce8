package eaptls

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"

	"yellowlantern/internal/core/eap"
)

// Peer is the device's side of a method that carries TLS: EAP-TLS, by a certificate of the person, or EAP-TTLS with a password inside:
// handed over at once (PAP), or where another one is at hand in case that the gateway wants it, typed as it is asked for (EAP-GTC).
type Peer struct {
	// Next is that other password; empty: there is none.
	Next string

	kind           byte
	inside         func(*tls.Conn) error
	user, password string
	changed        bool
	refused        error
	conf           *tls.Config
	e              *engine
	parts          assembly
	key            []byte
	err            error
	sent           bool
}

// NewPeer prepares a login by EAP-TTLS; the server must have a certificate for its name by one of the roots.
func NewPeer(name string, roots *x509.CertPool, user, password string) *Peer {
	p := &Peer{
		kind: typeTTLS, user: user, password: password,
		conf: &tls.Config{ServerName: name, RootCAs: roots, MinVersion: tls.VersionTLS12},
	}
	p.inside = p.handOver
	return p
}

// NewKeyPeer prepares a login by EAP-TLS, with a certificate of the person's and its key; of the server as NewPeer.
func NewKeyPeer(name string, roots *x509.CertPool, own tls.Certificate) *Peer {
	p := &Peer{kind: typeTLS, conf: &tls.Config{ServerName: name, RootCAs: roots, MinVersion: tls.VersionTLS12}}
	// Which authorities the server names is nothing to go by: there is one certificate, and who believes it the gateway knows.
	p.conf.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return &own, nil }
	p.inside = p.taken
	return p
}

// Type implements eap.PeerMethod.
func (p *Peer) Type() byte { return p.kind }

// Handle takes the data of the server's request, and gives that of the answer.
func (p *Peer) Handle(data []byte) ([]byte, error) {
	if len(data) > 0 && data[0]&flagStart != 0 && p.e == nil {
		p.e = start(p.dial)
		p.parts.out, _ = p.e.step(nil)
		return p.parts.next(true), nil
	}
	whole, err := p.parts.take(data)
	switch {
	case err != nil:
		return nil, err
	case p.e == nil:
		return nil, errMalformed
	case p.parts.more:
		return []byte{0}, nil
	case len(whole) == 0 && len(p.parts.out) > 0:
		return p.parts.next(false), nil
	case len(whole) == 0:
		return nil, errMalformed
	}
	out, over := p.e.step(whole)
	if over && p.err != nil && len(out) == 0 {
		return nil, p.err
	}
	p.parts.out = out
	return p.parts.next(true), nil
}

// dial is the login inside TLS.
func (p *Peer) dial(c net.Conn) {
	t := tls.Client(c, p.conf)
	if p.err = t.Handshake(); p.err != nil {
		p.err = fmt.Errorf("eaptls: %w", p.err)
		return
	}
	if p.key, p.err = exportedKey(t, p.kind); p.err == nil {
		p.err = p.inside(t)
	}
}

// taken waits until the server has said that it is over, which TLS 1.3 does not (RFC 9190 §2.5).
func (p *Peer) taken(t *tls.Conn) error {
	if t.ConnectionState().Version == tls.VersionTLS13 {
		var over [1]byte
		if _, err := t.Read(over[:]); err != nil {
			return fmt.Errorf("eaptls: %w", err)
		}
	}
	p.sent = true
	return nil
}

// handOver hands a password over, or types what is asked for.
func (p *Peer) handOver(t *tls.Conn) error {
	if p.Next != "" {
		err := p.converse(t)
		if errors.Is(err, errAsksMore) {
			p.refused = err
			return t.Close() // the gateway is told, so that its journal says what it asked for last
		}
		return err
	}
	padded := append([]byte(p.password), bytes.Repeat([]byte{0}, (16-len(p.password)%16)%16)...)
	b := avp{code: avpUserName, data: []byte(p.user)}.append(nil)
	_, err := t.Write(avp{code: avpUserPassword, data: padded}.append(b))
	p.sent = err == nil
	return err
}

// converse answers what it is asked inside the tunnel (RFC 5281 §11.2.1), until the tunnel closes.
func (p *Peer) converse(t *tls.Conn) error {
	send := func(message []byte) error {
		_, err := t.Write(avp{code: avpEAPMessage, mandatory: true, data: message}.append(nil))
		return err
	}
	err := send(eap.Response(0, eap.TypeIdentity, []byte(p.user)))
	for range mostRounds {
		if err != nil {
			return err
		}
		as, bad := readAVPs(t)
		if bad != nil {
			return bad
		}
		message, _ := find(as, 0, avpEAPMessage)
		id, kind, asked, ok := eap.Request(message)
		switch {
		case !ok:
			return errMalformed
		case kind == eap.TypeIdentity:
			err = send(eap.Response(id, kind, []byte(p.user)))
		case kind != eap.TypeGTC:
			err = send(eap.Response(id, eap.TypeNak, []byte{eap.TypeGTC}))
		case strings.HasSuffix(string(asked), eap.AskNext) && !p.changed:
			p.changed = true
			err = send(eap.Response(id, kind, []byte(p.Next)))
		case p.sent: // a code, or yet another password
			return errAsksMore
		default:
			err = send(eap.Response(id, kind, []byte(p.password)))
			p.sent = err == nil
		}
	}
	return errMalformed
}

var errAsksMore = errors.New("the gateway asks for more than a password, or will not have the one that was chosen")

// Changed implements eap.PeerMethod.
func (p *Peer) Changed() bool { return p.changed }

// Refused implements eap.PeerMethod.
func (p *Peer) Refused() error { return p.refused }

// MSK is the key that the method leaves behind, 64 octets; nil: the server has not proved itself, or the password was not sent.
func (p *Peer) MSK() []byte {
	if !p.sent {
		return nil
	}
	return p.key
}

// Close ends a login that comes to nothing.
func (p *Peer) Close() {
	if p.e != nil {
		p.e.close()
	}
}
