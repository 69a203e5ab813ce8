package eaptls

import (
	"crypto/tls"
	"fmt"
	"net"
	"strings"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// typeTTLS is EAP-TTLS (RFC 5281).
const typeTTLS = 21

// Inner judges what is inside the tunnel. Its calls may take long.
type Inner struct {
	// Password judges a password that is handed over (PAP); nil: that is not taken.
	Password func(user, password string) login.Outcome
	// Check judges an answer to a challenge (MS-CHAPv2); nil: that is not taken.
	Check func(eap.Check) eap.Verdict
}

// TTLS is the server's side of EAP-TTLS: the server proves itself by one of its certificates, and inside the tunnel the person does. The
// name that is
// inside counts alone.
func TTLS(c []tls.Certificate, inner Inner) eap.Method { return &server{certificates: c, inner: inner} }

type server struct {
	certificates []tls.Certificate // of which the device is shown the one that it takes
	inner        Inner
	e            *engine
	parts        assembly
	outcome      login.Outcome // once the engine is over
	over         bool
}

// Type implements eap.Method.
func (*server) Type() byte { return typeTTLS }

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

func (s *server) refused(why reason.Reason) eap.Turn {
	if s.e != nil {
		s.e.close()
	}
	return eap.Refused(why)
}

// serve is the login inside TLS.
func (s *server) serve(c net.Conn) {
	t := tls.Server(c, &tls.Config{
		Certificates: s.certificates, MinVersion: tls.VersionTLS12, SessionTicketsDisabled: true,
	})
	if err := t.Handshake(); err != nil {
		s.outcome = login.Outcome{Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: handshakeWords(err)})}
		return
	}
	as, err := readAVPs(t)
	if err != nil {
		s.outcome = login.Outcome{Why: reason.Of(reason.EAPTLSFailed,
			reason.With{reason.Error: "nothing that can be read came inside the tunnel"})}
		return
	}
	o := s.judge(t, as)
	if o.OK {
		if o.Key, err = exported(t, labelKey, 64); err != nil {
			o = login.Outcome{User: o.User, Known: o.Known, Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: noExport})}
		}
	}
	s.outcome = o
}

// noExport is where a device has neither TLS 1.3 nor what binds the keys of TLS 1.2 to its handshake (RFC 7627).
const noExport = "the device has neither TLS 1.3 nor the extended master secret of TLS 1.2, so no key can be had of it safely"

func (s *server) judge(t *tls.Conn, as []avp) login.Outcome {
	name, ok := find(as, 0, avpUserName)
	user := eap.WithoutDomain(string(name))
	if !ok || user == "" || len(user) > 255 {
		return login.Outcome{Why: reason.Of(reason.EAPNoName, nil)}
	}
	if p, ok := find(as, 0, avpUserPassword); ok && s.inner.Password != nil {
		return s.inner.Password(user, strings.TrimRight(string(p), "\x00")) // RFC 5281 §11.2.5
	}
	response, ok := find(as, vendorMicrosoft, avpMS2Response)
	if !ok || s.inner.Check == nil {
		return login.Outcome{User: user, Why: reason.Of(reason.EAPInnerOther, nil)}
	}
	return s.challenged(t, user, as, response)
}

// challenged judges MS-CHAPv2 inside (RFC 5281 §11.2.4): the challenge comes of the handshake, so that it cannot be of another one.
func (s *server) challenged(t *tls.Conn, user string, as []avp, response []byte) login.Outcome {
	want, err := exported(t, labelChallenge, 17)
	if err != nil {
		return login.Outcome{User: user, Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: noExport})}
	}
	sent, _ := find(as, vendorMicrosoft, avpMSChallenge)
	if len(response) != 50 || string(sent) != string(want[:16]) || response[0] != want[16] {
		return login.Outcome{User: user, Why: reason.Of(reason.EAPBadResponse, nil)}
	}
	c := eap.Check{User: user, Challenge: [16]byte(want), Peer: [16]byte(response[2:]), Response: [24]byte(response[26:])}
	v := s.inner.Check(c)
	if !v.OK {
		return login.Outcome{User: user, Known: v.Known, Why: v.Refusal}
	}
	proof := avp{vendor: vendorMicrosoft, code: avpMS2Success, data: append([]byte{want[16]}, v.Proof...)}
	if _, err := t.Write(proof.append(nil)); err != nil {
		return login.Outcome{User: user, Known: true, Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: "the tunnel closed"})}
	}
	return login.Outcome{OK: true, User: user, Known: true}
}

// readAVPs reads what is in one record, and in those after it until attributes are whole.
func readAVPs(t *tls.Conn) ([]avp, error) {
	var all []byte
	buf := make([]byte, 16<<10)
	for len(all) < mostAtOne {
		n, err := t.Read(buf)
		if err != nil {
			return nil, err
		}
		all = append(all, buf[:n]...)
		if as, err := parseAVPs(all); err == nil && len(as) > 0 {
			return as, nil
		}
	}
	return nil, errTooLarge
}

// Labels by which keys come of a handshake, of TLS 1.2 (RFC 5281 §8, §11.1) and of TLS 1.3 (RFC 9427 §2.1).
const (
	labelKey       = "ttls keying material"
	labelKey13     = "EXPORTER_EAP_TLS_Key_Material"
	labelChallenge = "ttls challenge"
)

// exported takes octets of a handshake. Go refuses where they are not bound to it.
func exported(t *tls.Conn, label string, n int) ([]byte, error) {
	state := t.ConnectionState()
	if state.Version == tls.VersionTLS13 {
		if label == labelKey {
			label, n = labelKey13, 128
		}
		b, err := state.ExportKeyingMaterial(label, []byte{typeTTLS}, n)
		if err != nil {
			return nil, err
		}
		return b[:min(n, 64)], nil
	}
	return state.ExportKeyingMaterial(label, nil, n)
}

// handshakeWords says why TLS failed, without what a stranger chose.
func handshakeWords(err error) string {
	var alert tls.AlertError
	text := err.Error()
	switch {
	case strings.Contains(text, "unknown certificate") || strings.Contains(text, "bad certificate") ||
		strings.Contains(text, "unknown certificate authority"):
		return "the device does not believe the gateway's certificate"
	case strings.Contains(text, "protocol version") || strings.Contains(text, "unsupported versions"):
		return "the device has no TLS 1.2 or newer"
	case asAlert(err, &alert):
		return fmt.Sprintf("the device broke off: %v", alert)
	}
	return "the handshake came to nothing"
}
