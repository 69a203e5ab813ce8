package eaptls

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

const gate = "gate.tern.example"

func credential(t testing.TB) (tls.Certificate, *x509.CertPool) {
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island")
	require.NoError(t, err)
	pair, err := ca.NewGateway(rand.Reader, time.Now(), gate)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(ca.Leaf)
	return tls.Certificate{Certificate: [][]byte{pair.DER}, PrivateKey: pair.Key}, roots
}

func byPassword(user, password string) login.Outcome {
	if user != "rory.researcher" || password != "gannet lantern mosaic ferry" {
		return login.Outcome{User: user, Known: user == "rory.researcher", Why: reason.Of(reason.WrongPassword, nil)}
	}
	return login.Outcome{OK: true, User: user, Known: true}
}

// run has both sides talk, each flight altered on its way.
func run(t testing.TB, m eap.Method, p *Peer, alter func([]byte) []byte) (eap.Turn, error) {
	data, err := m.Begin()
	require.NoError(t, err)
	for range 200 {
		answer, err := p.Handle(data)
		if err != nil {
			return eap.Turn{}, err
		}
		if alter != nil {
			answer = alter(answer)
		}
		turn := m.Respond(answer)
		if turn.Over {
			return turn, nil
		}
		data = turn.Send
	}
	t.Fatal("the login does not end")
	return eap.Turn{}, nil
}

func TestPasswordInside(t *testing.T) {
	c, roots := credential(t)
	inner := Inner{Password: byPassword}
	for _, versions := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		p := NewPeer(gate, roots, "rory.researcher", "gannet lantern mosaic ferry")
		p.conf.MaxVersion = versions
		turn, err := run(t, TTLS([]tls.Certificate{c}, inner), p, nil)
		require.NoError(t, err)
		require.True(t, turn.OK, turn.Why.Words())
		require.Len(t, turn.Key, 64)
		require.Equal(t, p.MSK(), turn.Key)

		p = NewPeer(gate, roots, "rory.researcher", "wrong")
		turn, err = run(t, TTLS([]tls.Certificate{c}, inner), p, nil)
		require.NoError(t, err)
		require.False(t, turn.OK)
		require.Equal(t, reason.WrongPassword, turn.Why.Code)
	}
	// The device's side believes nobody else.
	_, others := credential(t)
	turn, err := run(t, TTLS([]tls.Certificate{c}, inner), NewPeer(gate, others, "rory.researcher", "x"), nil)
	if err == nil { // it told the gateway so
		require.Equal(t, "the device does not believe the gateway's certificate",
			turn.Why.Words())
	}
	p := NewPeer("another.tern.example", roots, "rory.researcher", "x")
	_, _ = run(t, TTLS([]tls.Certificate{c}, inner), p, nil)
	require.Nil(t, p.MSK())
	// Where only a challenge is taken, a password that is handed over is nobody's.
	challenged := Inner{Check: func(eap.Check) eap.Verdict { return eap.Verdict{OK: true} }}
	turn, err = run(t, TTLS([]tls.Certificate{c}, challenged), NewPeer(gate, roots, "rory.researcher", "x"), nil)
	require.NoError(t, err)
	require.Equal(t, reason.EAPInnerOther, turn.Why.Code)
}

// The reason of a refusal names the method and what went wrong in it.
func TestReasonsNameTheMethod(t *testing.T) {
	c, roots := credential(t)
	owner := func([][]byte, []byte) login.Outcome { return login.Outcome{OK: true, User: "rory.researcher"} }
	for want, methods := range map[string]struct {
		m eap.Method
		p *Peer
	}{
		"EAP-TLS failed: the device sent no certificate, by which it is to log in": {
			TLS([]tls.Certificate{c}, owner), NewKeyPeer(gate, roots, tls.Certificate{}),
		},
		"EAP-TTLS failed: what the device sent is no TLS handshake": {TTLS([]tls.Certificate{c}, Inner{Password: byPassword}), nil},
	} {
		talk := eap.Converse(methods.m)
		step := talk.Next(nil)
		id := func() byte { return step.Send[1] }
		answer := func(kind byte, data []byte) {
			b := append([]byte{2, id(), 0, byte(5 + len(data)), kind}, data...)
			b[2] = byte((5 + len(data)) >> 8)
			step = talk.Next(b)
		}
		answer(eap.TypeIdentity, []byte("rory.researcher"))
		for range 20 {
			if step.Over {
				break
			}
			if methods.p == nil {
				answer(methods.m.Type(), append([]byte{0}, bytes.Repeat([]byte("x"), 60)...))
				continue
			}
			data, err := methods.p.Handle(step.Send[5:])
			if err != nil { // an alert, of which there is nothing to say but that it came
				data = []byte{0}
			}
			answer(methods.m.Type(), data)
		}
		require.True(t, step.Over)
		require.Equal(t, want, step.Why.Words())
	}
}

// Whatever comes in place of a flight ends the login, bounded in time and memory.
func TestHostileFlights(t *testing.T) {
	c, roots := credential(t)
	for name, alter := range map[string]func([]byte) []byte{
		"nothing":         func([]byte) []byte { return nil },
		"another version": func(b []byte) []byte { b[0] |= 3; return b },
		"a length lie":    func([]byte) []byte { return []byte{flagLength, 0xff, 0xff, 0xff, 0xff, 1} },
		"cut length":      func([]byte) []byte { return []byte{flagLength, 0} },
		"no TLS":          func(b []byte) []byte { return append([]byte{0}, make([]byte, 100)...) },
		"empty parts":     func([]byte) []byte { return []byte{flagMore} },
		"endless parts":   func([]byte) []byte { return append([]byte{flagMore}, make([]byte, 1000)...) },
	} {
		flight, err := NewPeer(gate, roots, "rory.researcher", "x").Handle([]byte{flagStart})
		require.NoError(t, err)
		m := TTLS([]tls.Certificate{c}, Inner{Password: byPassword})
		var turn eap.Turn
		for n := 0; !turn.Over; n++ {
			require.Less(t, n, 100, name)
			turn = m.Respond(alter(slices.Clone(flight)))
		}
		require.False(t, turn.OK, name)
		require.NotEqual(t, reason.Code(""), turn.Why.Code, name)
	}
	for wrong, ok := range map[string]bool{
		"":                                     true,
		"\x00\x00\x00\x01\x40\x00\x00\x08":     true,
		"\x00\x00\x00\x01\x40\x00\x00\x07":     false,
		"\x00\x00\x00\x01\x40\xff\xff\xff":     false,
		"\x00\x00\x00\x01\xc0\x00\x00\x0b\x00": false,
		"\x00\x00\x00\x01":                     false,
		strings.Repeat("\x00\x00\x00\x01\x40\x00\x00\x08", mostAVPs+1): false,
	} {
		_, err := parseAVPs([]byte(wrong))
		require.Equal(t, ok, err == nil, "%x", wrong)
	}
}

func FuzzServer(f *testing.F) {
	c, _ := credential(f)
	f.Add([]byte{0x20}, []byte{0x80, 0, 0, 0, 5, 22, 3, 1, 0, 0})
	f.Add([]byte{0x40, 22, 3}, []byte{0, 1})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		m := TTLS([]tls.Certificate{c}, Inner{Password: byPassword}).(*server)
		for _, in := range [][]byte{a, b} {
			require.False(t, m.Respond(in).OK)
		}
		if m.e != nil {
			m.e.close()
		}
		_, _ = parseAVPs(a)
	})
}

// By EAP-TLS both sides come to the same key by either version of TLS, whoever the certificate is of; one that its owner's side does not
// believe ends the login, and what is typed where more is asked for comes in the order in which it is.
func TestDeviceSide(t *testing.T) {
	c, roots := credential(t)
	own, _ := credential(t)
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		for _, known := range []bool{true, false} {
			p := NewKeyPeer(gate, roots, own)
			p.conf.MaxVersion = version
			turn, err := run(t, TLS([]tls.Certificate{c}, func(chain [][]byte, _ []byte) login.Outcome {
				require.Equal(t, own.Certificate, chain)
				return login.Outcome{OK: known, User: "rory.researcher", Known: true}
			}), p, nil)
			require.NoError(t, err)
			require.Equal(t, known, turn.OK)
			if known {
				require.Len(t, turn.Key, 64)
				require.Equal(t, p.MSK(), turn.Key)
			}
			p.Close()
		}
		var typed []string
		p := NewPeer(gate, roots, "rory.researcher", "old")
		p.Next, p.conf.MaxVersion = "new", version
		turn, err := run(t, TTLS([]tls.Certificate{c}, Inner{
			Check: func(eap.Check) eap.Verdict { return eap.Verdict{} }, // it is proposed first, and not taken
			Password: func(_, password string) login.Outcome {
				typed = append(typed, password)
				return login.Outcome{User: "rory.researcher", Why: reason.Of(reason.PasswordToChange, nil)}
			},
			Next: func(password string) login.Outcome {
				typed = append(typed, password)
				return login.Outcome{OK: true, User: "rory.researcher", Known: true}
			},
		}), p, nil)
		require.NoError(t, err)
		require.True(t, turn.OK)
		require.True(t, p.Changed())
		require.Equal(t, []string{"old", "new"}, typed)
		require.Equal(t, p.MSK(), turn.Key)
	}
}

// A login that goes no further holds nothing: TLS ends with it, wherever it stands.
func TestEndFreesTLS(t *testing.T) {
	c, roots := credential(t)
	for rounds := range 4 {
		m := TTLS([]tls.Certificate{c}, Inner{Password: byPassword})
		p := NewPeer(gate, roots, "rory.researcher", "gannet lantern mosaic ferry")
		data, err := m.Begin()
		require.NoError(t, err)
		for range rounds {
			answer, err := p.Handle(data)
			require.NoError(t, err)
			turn := m.Respond(answer)
			if turn.Over {
				break
			}
			data = turn.Send
		}
		m.(eap.Ender).End()
		m.(eap.Ender).End()
		e := m.(*server).e
		require.True(t, e != nil || rounds < 3, "TLS had begun")
		require.Eventually(t, func() bool {
			if e == nil {
				return true
			}
			e.mu.Lock()
			defer e.mu.Unlock()
			return e.ended
		}, time.Second, time.Millisecond)
	}
}
