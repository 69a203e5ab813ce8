package eaptls

import (
	"crypto/tls"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// typeTLS is EAP-TLS (RFC 5216, RFC 9190).
const typeTLS = 13

// TLS is the server's side of EAP-TLS: both sides prove themselves by certificates. owner tells whose it is that the device has shown to
// have the key of: its certificate first, then those above it, DER, and the public key (SubjectPublicKeyInfo). It may take long. What the
// device calls itself outside counts for nothing.
func TLS(c []tls.Certificate, owner func(chain [][]byte, public []byte) login.Outcome) eap.Method {
	conf := configuration(c)
	conf.ClientAuth = tls.RequestClientCert // whether it is believed, its owner says
	conf.VerifyConnection = func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 {
			return errNoCertificate
		}
		return nil
	}
	return &server{kind: typeTLS, conf: conf, inside: func(t *tls.Conn) login.Outcome {
		state := t.ConnectionState()
		if len(state.PeerCertificates) == 0 {
			return login.Outcome{Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: errNoCertificate.Error()})}
		}
		var chain [][]byte
		for _, x := range state.PeerCertificates {
			chain = append(chain, x.Raw)
		}
		o := owner(chain, state.PeerCertificates[0].RawSubjectPublicKeyInfo)
		if o.OK && state.Version == tls.VersionTLS13 {
			// Nothing of the handshake tells the device that it is over: an octet does (RFC 9190 §2.5).
			if _, err := t.Write([]byte{0}); err != nil {
				return login.Outcome{
					User: o.User, Known: true,
					Why: reason.Of(reason.EAPTLSFailed,
						reason.With{reason.Error: "the tunnel closed"}),
				}
			}
		}
		return o
	}}
}
