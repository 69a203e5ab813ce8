package ike

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"io"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	conversation "yellowlantern/internal/core/login"
)

// A gateway with two certificates shows a device the one that it announces to take (RFC 9593), or whose authority it asks for, and RSA
// where it says nothing of either.
func TestWhichCertificate(t *testing.T) {
	other := must(cert.NewAuthority(rand.Reader, start, "Other"))
	old := must(other.NewGatewayWith(rand.Reader, start, cert.RSA, dial))
	asks := func(a *cert.Pair) payload {
		sum := sha1.Sum(a.Leaf.RawSubjectPublicKeyInfo)
		return payload{kind: plCertReq, body: append([]byte{certX509}, append(make([]byte, sha1.Size), sum[:]...)...)}
	}
	ecdsa, rsaOnly := announcement{authSignature, string(ecdsaSignings[1].id)}, announcement{authSignature, string(rsaSignings[0].id)}
	tunnel := Tunnel{
		Credential: Credential{[][]byte{gateway.DER}, gateway.Key, ca.DER}, Second: Credential{[][]byte{old.DER}, old.Key, other.DER},
	}
	for what, x := range map[string]struct {
		says   []payload
		hashes hashes
		first  bool
	}{
		"nothing":                         {nil, ourHashes, false},
		"nothing, and no hashes":          {nil, 0, false},
		"takes both":                      {[]payload{bySignature().payload()}, ourHashes, true},
		"takes ECDSA":                     {[]payload{announcements{ecdsa}.payload()}, ourHashes, true},
		"takes ECDSA by another hash":     {[]payload{announcements{ecdsa}.payload()}, 1 << hashSHA256, true}, // neither fits
		"takes RSA":                       {[]payload{announcements{rsaOnly}.payload()}, ourHashes, false},
		"takes RSA by the older way":      {[]payload{announcements{{method: authRSA}}.payload()}, 0, false},
		"takes ECDSA by the older way":    {[]payload{announcements{{method: authECDSA256}}.payload()}, 0, true},
		"asks for the first's authority":  {[]payload{asks(ca)}, ourHashes, true},
		"asks for the second's authority": {[]payload{asks(other)}, ourHashes, false},
		"asks for both":                   {[]payload{asks(ca), asks(other)}, ourHashes, false},
		"takes RSA, asks for the first's": {[]payload{announcements{rsaOnly}.payload(), asks(ca)}, ourHashes, false},
		"asks for none of them":           {[]payload{{kind: plCertReq, body: make([]byte, 41)}}, ourHashes, false},
		"says what cannot be read":        {[]payload{notify{kind: nMethods, data: []byte{9, 1}}.payload()}, ourHashes, false},
	} {
		m := &message{payloads: x.says}
		got := tunnel.credential(m, announcedIn(m), x.hashes)
		require.Equal(t, x.first, got.Key == tunnel.Key, what)
		known := tunnel
		known.Known = true // that devices here take the first
		silent := announcedIn(m) == nil && !slices.Contains([]string{"asks for the second's authority"}, what)
		require.Equal(t, x.first || silent, known.credential(m, announcedIn(m), x.hashes).Key == tunnel.Key, what)
	}
	require.Equal(t, []byte{2, authSharedKey, 3, authRSA, 0}, announcements{{method: authSharedKey}, {method: authRSA}}.payload().body[4:],
		"RFC 9593 §3.2")

	// Our own client announces all that it takes, learns what the gateway takes, and trusts either authority.
	for _, second := range []bool{false, true} {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.Credential, s.Second = tunnel.Credential, tunnel.Second
			if second {
				s.Credential, s.Second = s.Second, s.Credential
			}
			c.Roots.AddCert(other.Leaf)
		})
		w.login()
		_, ok := find[Up](w)
		require.True(t, ok, "%v", w.failure())
		require.True(t, w.i.announces)
		require.Contains(t, announcedIn(must(parseMessage(w.i.answer))), announcement{method: authSharedKey})
	}
}

// People's RSA keys by the older method are taken with hashes that withstand attacks; with SHA-1 where the tunnel says so.
func TestOlderRSA(t *testing.T) {
	key := keysOfPeople()["RSA-2048"].(*rsa.PrivateKey)
	octets := []byte("what AUTH covers")
	for _, h := range []crypto.Hash{crypto.SHA256, crypto.SHA384, crypto.SHA512} {
		sig := must(rsa.SignPKCS1v15(rand.Reader, key, h, digest(h, octets)))
		require.NoError(t, verify(key.Public(), authRSA, sig, octets))
		require.Error(t, verify(key.Public(), authRSA, sig, octets[1:]))
		require.Error(t, verify(keysOfPeople()["P-256"].Public(), authRSA, sig, octets))
	}
	sig := must(rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA1, digest(crypto.SHA1, octets)))
	require.Error(t, verify(key.Public(), authRSA, sig, octets))
	for h, allowed := range map[crypto.Hash][]bool{crypto.SHA256: {false, true}, crypto.SHA1: {true}} {
		for _, sha1 := range []bool{false, true} {
			w := newWorld(t, func(s *Settings, c *Caller) {
				s.Proof, s.SHA1, c.Chain = ByCertificate, sha1, [][]byte{certificateOf(key)}
			})
			w.i.c.Key = olderSigner{key, h, w}
			w.owner = conversation.Outcome{OK: true, User: user, Known: true}
			w.order = withoutHashes
			w.login()
			_, ok := find[Up](w)
			require.Equal(t, slices.Contains(allowed, sha1), ok, "%v: %v", h, w.failure())
		}
	}
}

// olderSigner signs what AUTH covers by a hash of its own.
type olderSigner struct {
	*rsa.PrivateKey
	hash crypto.Hash
	w    *world
}

func (o olderSigner) Sign(rand io.Reader, _ []byte, _ crypto.SignerOpts) ([]byte, error) {
	i := o.w.i
	octets := i.keys.signedOctets(i.first, i.nr, i.keys.pi, i.identity().body())
	return rsa.SignPKCS1v15(rand, o.PrivateKey, o.hash, digest(o.hash, octets))
}

// withoutHashes takes away from the gateway's first answer by which hashes it takes signatures, as if it had said none.
func withoutHashes(outs []Output) []Output {
	for n, o := range outs {
		send, is := o.(Send)
		m, err := parseMessage(send.Data)
		if !is || err != nil || m.exchange != ikeSAInit || !m.response() {
			continue
		}
		m.payloads = slices.DeleteFunc(m.payloads, func(p payload) bool {
			x, err := parseNotify(p.body)
			return p.kind == plNotify && err == nil && x.kind == nSignatureHashes
		})
		outs[n] = Send{send.To, m.marshal()}
	}
	return outs
}
