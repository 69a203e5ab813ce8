package eaptls

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"reflect"
	"slices"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

func configuration(c []tls.Certificate) *tls.Config {
	return &tls.Config{Certificates: c, MinVersion: tls.VersionTLS12, SessionTicketsDisabled: true}
}

// server is the server's side of a method that carries TLS.
type server struct {
	kind    byte
	conf    *tls.Config // with the certificates of which the device is shown the one that it takes
	inside  func(*tls.Conn) login.Outcome
	e       *engine
	parts   assembly
	outcome login.Outcome // once the engine is over
	over    bool
}

// Type implements eap.Method.
func (s *server) Type() byte { return s.kind }

// Begin implements eap.Method.
func (*server) Begin() ([]byte, error) { return []byte{flagStart}, nil }

// Respond implements eap.Method.
func (s *server) Respond(data []byte) eap.Turn {
	whole, err := s.parts.take(data)
	switch {
	case err != nil:
		return s.refused(reason.Of(reason.EAPBadResponse, nil))
	case s.parts.more:
		return eap.Turn{Send: []byte{0}} // go on
	case len(whole) == 0 && len(s.parts.out) > 0:
		return eap.Turn{Send: s.parts.next(false)}
	case len(whole) == 0 && s.over:
		return eap.Turn{Over: true, Outcome: s.outcome}
	case len(whole) == 0:
		return s.refused(reason.Of(reason.EAPBadResponse, nil))
	}
	if s.e == nil {
		s.e = start(s.serve)
	}
	s.parts.out, s.over = s.e.step(whole)
	if s.over && len(s.parts.out) == 0 {
		return eap.Turn{Over: true, Outcome: s.outcome}
	}
	return eap.Turn{Send: s.parts.next(true)}
}

// End implements eap.Ender: the goroutine ends that TLS runs in.
func (s *server) End() {
	if s.e != nil {
		s.e.close()
	}
}

func (s *server) refused(why reason.Reason) eap.Turn {
	if s.e != nil {
		s.e.close()
	}
	return eap.Refused(why)
}

// serve is the login inside TLS.
func (s *server) serve(c net.Conn) {
	conf, old := s.conf.Clone(), false
	conf.GetConfigForClient = func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		old = !slices.ContainsFunc(hello.SupportedVersions, func(v uint16) bool { return v >= conf.MinVersion })
		return nil, nil
	}
	t := tls.Server(c, conf)
	if err := t.Handshake(); err != nil {
		s.outcome = login.Outcome{Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: handshakeWords(err, old)})}
		return
	}
	o := s.inside(t)
	if o.OK {
		var err error
		if o.Key, err = exportedKey(t, s.kind); err != nil {
			o = login.Outcome{User: o.User, Known: o.Known, Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: noExport})}
		}
	}
	s.outcome = o
}

// noExport is where a device has neither TLS 1.3 nor what binds the keys of TLS 1.2 to its handshake (RFC 7627).
const noExport = "the device has neither TLS 1.3 nor the extended master secret of TLS 1.2, so no key can be had of it safely"

// Labels by which keys come of a handshake, of TLS 1.2 (RFC 5216 §2.3; RFC 5281 §8, §11.1) and of TLS 1.3 (RFC 9190 §2.3, RFC 9427 §2.1).
const (
	labelKeyTTLS   = "ttls keying material"
	labelKeyTLS    = "client EAP encryption"
	labelKey13     = "EXPORTER_EAP_TLS_Key_Material"
	labelChallenge = "ttls challenge"
)

// exportedKey takes the key that a method leaves behind, 64 octets. Go refuses where it is not bound to the handshake.
func exportedKey(t *tls.Conn, kind byte) ([]byte, error) {
	label := labelKeyTTLS
	if kind == typeTLS {
		label = labelKeyTLS
	}
	n := 64
	if t.ConnectionState().Version == tls.VersionTLS13 {
		label, n = labelKey13, 128
	}
	b, err := exported(t, kind, label, n)
	if err != nil {
		return nil, err
	}
	return b[:64], nil
}

// exported takes octets of a handshake; with TLS 1.3 they are those of one method.
func exported(t *tls.Conn, kind byte, label string, n int) ([]byte, error) {
	state := t.ConnectionState()
	if state.Version == tls.VersionTLS13 {
		return state.ExportKeyingMaterial(label, []byte{kind}, n)
	}
	return state.ExportKeyingMaterial(label, nil, n)
}

// Alerts by which a device says that it does not believe a certificate (RFC 8446 §6.2).
var unbelieving = []uint8{42, 43, 44, 45, 46, 48} // bad, unsupported, revoked, expired, unknown certificate, unknown authority

const alertVersion = 70 // protocol_version

var errNoCertificate = errors.New("the device sent no certificate, by which it is to log in")

// handshakeWords says why TLS failed, without what a stranger chose; old is that the device offered no version that is taken.
func handshakeWords(err error, old bool) string {
	var noTLS tls.RecordHeaderError
	alert, alerted := alertIn(err)
	switch {
	case errors.Is(err, errNoCertificate):
		return errNoCertificate.Error()
	case errors.As(err, &noTLS):
		return "what the device sent is no TLS handshake"
	case old, alerted && alert == alertVersion:
		return "the device has no TLS 1.2 or newer"
	case alerted && slices.Contains(unbelieving, alert):
		return "the device does not believe the gateway's certificate"
	case alerted:
		return fmt.Sprintf("the device broke off: %v", tls.AlertError(alert))
	}
	return "the TLS handshake failed"
}

// alertIn is the alert of the other side that ended a handshake, by its number: of connections Go tells it by a type of its own, beneath an
// error of the network.
func alertIn(err error) (alert uint8, ok bool) {
	var from *net.OpError
	if !errors.As(err, &from) || from.Op != "remote error" {
		return 0, false
	}
	v := reflect.ValueOf(from.Err)
	if v.Kind() != reflect.Uint8 {
		return 0, false
	}
	return uint8(v.Uint()), true
}
