package ike

import (
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"testing"
	"time"

	"yellowlantern/internal/core/eap"
	conversation "yellowlantern/internal/core/login"
)

// operations are the cryptographic operations that both sides of a login consist of, and nothing else.
type operations struct {
	gateway, person  crypto.Signer // that sign; nil: it does not
	der              []byte        // the gateway's certificate
	kem, password    bool
	messages, hashes int // sealed and opened once each; key schedules and AUTH
}

func (o operations) do(b *testing.B, block cipher.AEAD, peer dh, roots *x509.CertPool) {
	octets := make([]byte, 400)
	digest := sha256.Sum256(octets)
	proves := func(key crypto.Signer) {
		if key == nil {
			return
		}
		p, err := sign(rand.Reader, key, octets, ourHashes)
		if err != nil {
			b.Fatal(err)
		}
		method, data, _ := parseAuth(p.body)
		if err := verify(key.Public(), method, data, octets); err != nil {
			b.Fatal(err)
		}
	}
	if o.messages > 4 || o.person != nil { // a key exchange
		for range 2 {
			half := must(newDH(groupX25519, rand.Reader))
			_, _ = half.shared(peer.public())
		}
	}
	if o.kem {
		k := must(newKEM(kemMLKEM768, rand.Reader))
		ciphertext, _, _ := encapsulate(kemMLKEM768, k.public)
		_, _ = k.open(ciphertext)
	}
	proves(o.gateway)
	proves(o.person)
	if o.der != nil {
		leaf := must(x509.ParseCertificate(o.der))
		_, _ = leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: dial, CurrentTime: start})
	}
	for range o.messages {
		sealed := block.Seal(nil, make([]byte, 12), octets, nil)
		_, _ = block.Open(nil, make([]byte, 12), sealed, nil)
	}
	for range o.hashes {
		prfHMACSHA256.sum(digest[:], octets)
	}
	if o.password {
		var c eap.Check
		c.Judge(eap.NTHash(password))
		c.Judge(eap.NTHash(password))
	}
}

// BenchmarkLogin has complete logins of each kind, both sides, in turn with the operations that they consist of: what share of a login is
// cryptography, and what ML-KEM, a key in place of a password, an RSA certificate, a shared key and a ticket cost or save.
func BenchmarkLogin(b *testing.B) {
	keys := keysOfPeople()
	rsaKey := keys["RSA-2048"]
	rsaCert := rsaGateway(rsaKey)
	block := must(cipher.NewGCM(must(aes.NewCipher(make([]byte, 32)))))
	peer := must(newDH(groupX25519, rand.Reader))
	roots := x509.NewCertPool()
	roots.AddCert(ca.Leaf)
	remembered, ticket := remembering(b)
	for _, x := range []struct {
		name   string
		does   operations
		change func(*Settings, *Caller)
	}{
		{"password-ECDSA-P-256", operations{gateway.Key, nil, gateway.DER, false, true, 10, 40}, nil},
		{"password-RSA-2048", operations{rsaKey, nil, rsaCert, false, true, 10, 40}, func(s *Settings, _ *Caller) {
			s.Credential = Credential{Chain: [][]byte{rsaCert}, Key: rsaKey}
		}},
		{"password-ML-KEM-768", operations{gateway.Key, nil, gateway.DER, true, true, 12, 60}, hybrids},
		{"public-key-P-256", operations{gateway.Key, keys["P-256"], gateway.DER, false, false, 2, 25}, func(s *Settings, c *Caller) {
			s.Proof, c.Key = ByPublicKey, keys["P-256"]
		}},
		{"public-key-Ed25519", operations{gateway.Key, keys["Ed25519"], gateway.DER, false, false, 2, 25}, func(s *Settings, c *Caller) {
			s.Proof, c.Key = ByPublicKey, keys["Ed25519"]
		}},
		{"shared-key", operations{nil, nil, nil, false, false, 5, 30}, func(s *Settings, c *Caller) {
			s.Proof, c.SharedKey = BySharedKey, sharedByRory[1:]
		}},
		{"back-by-a-ticket", operations{nil, nil, nil, false, false, 3, 30}, nil},
	} {
		b.Run(x.name, func(b *testing.B) {
			var alone, whole time.Duration
			for b.Loop() {
				begun := time.Now()
				x.does.do(b, block, peer, roots)
				alone += time.Since(begun)
				begun = time.Now()
				w := remembered
				if x.name == "back-by-a-ticket" {
					w.again(b, ticket, func(s *Settings) { s.LogKeys = false })
				} else {
					w = newWorld(b, func(s *Settings, c *Caller) {
						s.LogKeys, c.LogKeys = false, false
						if x.change != nil {
							x.change(s, c)
						}
					})
				}
				w.owner, w.shares = conversation.Outcome{OK: true, User: user, Known: true}, sharing
				w.login()
				whole += time.Since(begun)
				if w.l.Sessions() != 1 {
					b.Fatal(w.events)
				}
			}
			b.ReportMetric(0, "ns/op") // of both together: nobody wants it
			b.ReportMetric(float64(whole.Microseconds())/float64(b.N), "login-µs")
			b.ReportMetric(float64(alone.Microseconds())/float64(b.N), "operations-µs")
			b.ReportMetric(100*alone.Seconds()/whole.Seconds(), "%-operations")
			b.ReportMetric(float64(b.N)/whole.Seconds(), "logins/s")
		})
	}
}

// BenchmarkOperations has the operations that both sides of a login by password with ML-KEM consist of done on all cores at once: what
// complete logins through sockets (BenchmarkIdle of tunnel/ikev2) are held against.
func BenchmarkOperations(b *testing.B) {
	does := operations{gateway.Key, nil, gateway.DER, true, true, 12, 60}
	roots := x509.NewCertPool()
	roots.AddCert(ca.Leaf)
	peer := must(newDH(groupX25519, rand.Reader))
	b.RunParallel(func(pb *testing.PB) {
		block := must(cipher.NewGCM(must(aes.NewCipher(make([]byte, 32)))))
		for pb.Next() {
			does.do(b, block, peer, roots)
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "logins/s")
}
