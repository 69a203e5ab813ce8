package eaptls

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
)

// Peer is the device's side of EAP-TTLS with a password inside (PAP).
type Peer struct {
	user, password string
	conf           *tls.Config
	e              *engine
	parts          assembly
	key            []byte
	err            error
	sent           bool
}

// NewPeer prepares a login; the server must have a certificate for its name by one of the roots.
func NewPeer(name string, roots *x509.CertPool, user, password string) *Peer {
	return &Peer{user: user, password: password, conf: &tls.Config{ServerName: name, RootCAs: roots, MinVersion: tls.VersionTLS12}}
}

// Type is EAP-TTLS.
func (*Peer) Type() byte { return typeTTLS }

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
	if p.key, p.err = exportedKey(t, typeTTLS); p.err != nil {
		return
	}
	padded := append([]byte(p.password), bytes.Repeat([]byte{0}, (16-len(p.password)%16)%16)...)
	b := avp{code: avpUserName, data: []byte(p.user)}.append(nil)
	if _, p.err = t.Write(avp{code: avpUserPassword, data: padded}.append(b)); p.err == nil {
		p.sent = true
	}
}

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

func asAlert(err error, to *tls.AlertError) bool { return errors.As(err, to) }
