package eaptls

import (
	"crypto/rand"
	"crypto/tls"
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
	// Code judges the code of a second factor, once a password was right whose outcome asks for one; nil: none is asked for.
	Code func(code string) login.Outcome
	// Next takes another password where the one that was typed counts only to choose another with; nil: none is asked for.
	Next func(password string) login.Outcome
	// Check judges an answer to a challenge (MS-CHAPv2); nil: that is not taken.
	Check func(eap.Check) eap.Verdict
}

// TTLS is the server's side of EAP-TTLS: the server proves itself by one of its certificates, and inside the tunnel the person does. The
// name that is inside counts alone.
func TTLS(c []tls.Certificate, inner Inner) eap.Method {
	return &server{kind: typeTTLS, conf: configuration(c), inside: inner.login}
}

// login is the login inside the tunnel.
func (i Inner) login(t *tls.Conn) login.Outcome {
	as, err := readAVPs(t)
	if err != nil {
		return login.Outcome{Why: reason.Of(reason.EAPTLSFailed,
			reason.With{reason.Error: "nothing that can be read came inside the tunnel"})}
	}
	return i.judge(t, as)
}

func (i Inner) judge(t *tls.Conn, as []avp) login.Outcome {
	if message, ok := find(as, 0, avpEAPMessage); ok {
		return i.converse(t, message)
	}
	name, ok := find(as, 0, avpUserName)
	user := eap.WithoutDomain(string(name))
	if !ok || user == "" || len(user) > 255 {
		return login.Outcome{Why: reason.Of(reason.EAPNoName, nil)}
	}
	if p, ok := find(as, 0, avpUserPassword); ok && i.Password != nil {
		return i.Password(user, strings.TrimRight(string(p), "\x00")) // RFC 5281 §11.2.5
	}
	response, ok := find(as, vendorMicrosoft, avpMS2Response)
	if !ok || i.Check == nil {
		return login.Outcome{User: user, Why: reason.Of(reason.EAPInnerOther, nil)}
	}
	return i.challenged(t, user, as, response)
}

const mostRounds = 20 // of a conversation inside

// converse has a conversation by EAP inside (RFC 5281 §11.2.1), by what the device takes of a password that is typed (EAP-GTC) and
// EAP-MSCHAPv2. How it ended the device is told outside.
func (i Inner) converse(t *tls.Conn, message []byte) login.Outcome {
	identity, ok := eap.Identity(message)
	user := eap.WithoutDomain(identity)
	if !ok || user == "" || len(user) > 255 {
		return login.Outcome{Why: reason.Of(reason.EAPNoName, nil)}
	}
	var methods []eap.Method
	if i.Check != nil {
		methods = append(methods, eap.ByMSCHAPv2(rand.Reader, "", i.Check))
	}
	if i.Password != nil {
		methods = append(methods, eap.ByGTC(eap.GTC{
			Password: func(password string) login.Outcome { return i.Password(user, password) }, Code: i.Code, Next: i.Next,
		}))
	}
	inside := eap.Converse(methods...)
	for range mostRounds {
		step := inside.Next(message)
		if step.Over {
			step.Key = nil // the tunnel gives it
			return step.Outcome
		}
		if _, err := t.Write((avp{code: avpEAPMessage, mandatory: true, data: step.Send}).append(nil)); err != nil {
			break
		}
		as, err := readAVPs(t)
		if err != nil {
			break
		}
		if message, ok = find(as, 0, avpEAPMessage); !ok {
			break
		}
	}
	return login.Outcome{
		User: user,
		Why: reason.Of(reason.EAPTLSFailed,
			reason.With{reason.Error: "the conversation inside the tunnel came to no end"}),
	}
}

// challenged judges MS-CHAPv2 inside (RFC 5281 §11.2.4): the challenge comes of the handshake, so that it cannot be of another one.
func (i Inner) challenged(t *tls.Conn, user string, as []avp, response []byte) login.Outcome {
	want, err := exported(t, typeTTLS, labelChallenge, 17)
	if err != nil {
		return login.Outcome{User: user, Why: reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: noExport})}
	}
	sent, _ := find(as, vendorMicrosoft, avpMSChallenge)
	if len(response) != 50 || string(sent) != string(want[:16]) || response[0] != want[16] {
		return login.Outcome{User: user, Why: reason.Of(reason.EAPBadResponse, nil)}
	}
	c := eap.Check{User: user, Challenge: [16]byte(want), Peer: [16]byte(response[2:]), Response: [24]byte(response[26:])}
	v := i.Check(c)
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
