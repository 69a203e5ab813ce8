package ike

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/hex"
	"math/big"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// keysOfPeople are keys of every kind that people may have.
func keysOfPeople() map[string]crypto.Signer {
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		panic(err)
	}
	return map[string]crypto.Signer{
		"P-256": must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader)), "P-384": must(ecdsa.GenerateKey(elliptic.P384(), rand.Reader)),
		"P-521": must(ecdsa.GenerateKey(elliptic.P521(), rand.Reader)), "RSA-2048": must(rsa.GenerateKey(rand.Reader, 2048)), "Ed25519": ed,
	}
}

func certificateOf(key crypto.Signer) []byte {
	t := &x509.Certificate{SerialNumber: big.NewInt(7), NotAfter: time.Now().Add(time.Hour)}
	return must(x509.CreateCertificate(rand.Reader, t, t, key.Public(), key))
}

// People prove who they are by a key of any kind, with a certificate or without one, in one exchange; whose it is is asked.
func TestLoginByKey(t *testing.T) {
	for kind, key := range keysOfPeople() {
		for _, proof := range []Proof{ByCertificate, ByPublicKey} {
			spki := must(x509.MarshalPKIXPublicKey(key.Public()))
			var chain [][]byte
			if proof == ByCertificate {
				chain = [][]byte{certificateOf(key)}
			}
			w := newWorld(t, func(s *Settings, c *Caller) {
				s.Proof, s.Authorities, s.Secrets = proof, []*x509.Certificate{ca.Leaf}, secrets
				c.Key, c.Chain, c.Password = key, chain, ""
			})
			w.grant.Remember, w.grant.Until = []byte("r"), w.now.Add(time.Hour)
			w.owner = conversation.Outcome{OK: true, User: "rory", Known: true, Groups: []string{"researchers"}, Stamp: "s"}
			w.login()
			up, ok := find[Up](w)
			require.True(t, ok, "%s: %v", kind, w.failure())
			require.Equal(t, "rory", up.User)
			require.Equal(t, spki, w.shown.PublicKey)
			require.Equal(t, chain, w.shown.Chain)
			require.Equal(t, spki, w.asked[0].Key)
			require.Equal(t, "s", w.asked[0].Stamp)
			est, ok := find[Established](w)
			require.True(t, ok)
			require.NotNil(t, est.Ticket)
			w.run(w.i.Alive(w.now), true)
			require.False(t, w.i.Waiting())

			init := must(parseMessage(w.i.answer))
			asks, requested := init.find(plCertReq)
			require.Equal(t, proof == ByCertificate, requested)
			if requested { // RFC 7296 §3.7
				sum := sha1.Sum(ca.Leaf.RawSubjectPublicKeyInfo)
				require.Equal(t, append([]byte{4}, sum[:]...), asks)
			}
		}
	}
}

// Who has another's key or certificate and not the private one, who shows the wrong kind, who wants a password where a key is asked for or
// the other way round, and whose key is nobody's, is refused.
func TestLoginByKeyRefused(t *testing.T) {
	keys := keysOfPeople()
	mine, other := keys["P-256"], keys["Ed25519"]
	rory := conversation.Outcome{OK: true, User: "rory", Known: true}
	nobody := conversation.Outcome{Why: reason.Of(reason.KeyUnknown, nil)}
	for what, x := range map[string]struct {
		proof Proof
		key   crypto.Signer
		chain [][]byte
		owner conversation.Outcome
		why   reason.Code
	}{
		"another's certificate":      {ByCertificate, mine, [][]byte{certificateOf(other)}, rory, reason.WrongProof},
		"no certificate":             {ByCertificate, mine, nil, rory, reason.WrongLoginMethod},
		"a certificate":              {ByPublicKey, mine, [][]byte{certificateOf(mine)}, rory, reason.WrongLoginMethod},
		"nobody's":                   {ByPublicKey, mine, nil, nobody, reason.KeyUnknown},
		"a key in place of password": {ByPassword, mine, nil, rory, reason.WrongLoginMethod},
		"a password in place of key": {ByPublicKey, nil, nil, rory, reason.WrongLoginMethod},
		"no certificate at all":      {ByCertificate, mine, [][]byte{{1, 2, 3}}, rory, reason.KeyUnreadable},
		"too many": {
			ByCertificate, mine, [][]byte{
				certificateOf(mine), certificateOf(mine), certificateOf(mine), certificateOf(mine), certificateOf(mine), certificateOf(mine), certificateOf(mine),
			}, rory, reason.KeyUnreadable,
		},
	} {
		w := newWorld(t, func(s *Settings, c *Caller) { s.Proof, c.Key, c.Chain = x.proof, x.key, x.chain })
		w.owner = x.owner
		w.login()
		require.ErrorContains(t, w.failure(), "AUTHENTICATION_FAILED", what)
		note, ok := find[Note](w)
		require.True(t, ok)
		require.Equal(t, x.why, note.Reason.Code, what)
		require.Zero(t, w.l.Sessions()+w.l.HalfOpen(), what)
	}
	for asks, want := range map[bool]error{true: ErrLater, false: nil} {
		w := newWorld(t, func(s *Settings, c *Caller) { s.Proof, c.Key = ByPublicKey, mine })
		w.owner = conversation.Outcome{Why: reason.Of(reason.LoginsLater, nil)}
		w.alter = func(ps []payload) []payload {
			return slices.DeleteFunc(ps, func(p payload) bool { return !asks && bytes.Contains(p.body, laterMark) })
		}
		w.login()
		require.Equal(t, want, w.failure(), "while nobody decides only a device that asks for it is told so")
		require.Zero(t, w.l.Sessions()+w.l.HalfOpen())
	}
}

// Every way to sign has the AlgorithmIdentifier of RFC 7427 appendix A and RFC 8420 appendix A, is taken by whoever announced its hash, and
// covers every octet.
func TestWaysToSign(t *testing.T) {
	octets := []byte("what AUTH covers")
	keys := keysOfPeople()
	for _, x := range []struct {
		key    string
		theirs hashes
		method uint8
		id     string
	}{
		{"P-256", ourHashes, 14, "300a06082a8648ce3d040302"},
		{"P-384", ourHashes, 14, "300a06082a8648ce3d040303"},
		{"P-521", ourHashes, 14, "300a06082a8648ce3d040304"},
		{"P-521", 1 << hashSHA256, 14, "300a06082a8648ce3d040302"},
		{"P-256", 0, 9, ""},
		{"P-384", 0, 10, ""},
		{"P-521", 0, 11, ""},
		{"P-256", 1 << hashIdentity, 9, ""},
		{"RSA-2048", ourHashes, 14, "300d06092a864886f70d01010b0500"},
		{"RSA-2048", 1 << hashSHA512, 14, "300d06092a864886f70d01010d0500"},
		{"Ed25519", ourHashes, 14, "300506032b6570"},
	} {
		p := must(sign(rand.Reader, keys[x.key], octets, x.theirs))
		method, data, err := parseAuth(p.body)
		require.NoError(t, err)
		require.Equal(t, x.method, method, x.key)
		if x.id != "" {
			require.Equal(t, x.id, hex.EncodeToString(data[1:1+data[0]]))
		}
		for name, key := range keys {
			err := verify(key.Public(), method, data, octets)
			require.Equal(t, name == x.key, err == nil, "%s by %s", x.key, name)
		}
		require.Error(t, verify(keys[x.key].Public(), method, data, octets[1:]))
		data[len(data)-1] ^= 1
		require.Error(t, verify(keys[x.key].Public(), method, data, octets))
	}
	_, err := sign(rand.Reader, keys["Ed25519"], octets, 1<<hashSHA256)
	require.Error(t, err)

	// RSASSA-PSS, as RFC 7427 appendix A.4.3 has it for SHA2-256, is taken.
	key := keys["RSA-2048"].(*rsa.PrivateKey)
	id := must(hex.DecodeString("304106092a864886f70d01010a3034a00f300d06096086480165030402010500a11c301a06092a864886f70d010108300d0609608648016503040201" +
		"0500a203020120"))
	sig := must(rsa.SignPSS(rand.Reader, key, crypto.SHA256, digest(crypto.SHA256, octets), &rsa.PSSOptions{SaltLength: 32}))
	require.NoError(t, verify(key.Public(), 14, append(append([]byte{byte(len(id))}, id...), sig...), octets))
	short := must(rsa.GenerateKey(rand.Reader, 1024))
	p := must(sign(rand.Reader, short, octets, ourHashes))
	require.ErrorContains(t, verify(short.Public(), 14, p.body[4:], octets), "1024 bits")
	// A stranger's signature costs no more than one by the longest key that is taken.
	long := &rsa.PublicKey{N: new(big.Int).SetBit(big.NewInt(1), 60_000, 1), E: 65537}
	require.ErrorContains(t, verify(long, 14, p.body[4:], octets), "60001 bits")
}

// The certificate of a device is shown first, and its person logs in behind it (RFC 4739), with what is mixed in where something is.
// Another person on the same device, a device without the certificate, and either alone, get nowhere.
func TestLoginByBoth(t *testing.T) {
	key := keysOfPeople()["P-256"]
	login := func(change func(*Settings, *Caller), owner string) *world {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.Proof, s.Mixing, s.Secrets, s.Authorities = ByBoth, MixesOffered, secrets, []*x509.Certificate{ca.Leaf}
			c.Key, c.Chain, c.Both, c.Device = key, [][]byte{certificateOf(key)}, true, "cray-23"
			change(s, c)
		})
		w.owner, w.shares = conversation.Outcome{OK: true, User: owner, Known: true, Stamp: "of the key"}, sharing
		w.grant.Remember, w.grant.Until = []byte("r"), w.now.Add(time.Hour)
		w.login()
		return w
	}
	for _, mixed := range []*MixedIn{nil, {"mixed-1", sharedByRory, true}, {"mixed-9", sharedByRory, false}} {
		w := login(func(s *Settings, c *Caller) {
			c.MixedIn, s.Algorithms, c.Algorithms = mixed, hybrid, hybrid
		}, user)
		up, ok := find[Up](w)
		require.True(t, ok, "%v", w.failure())
		require.Equal(t, []any{user, "cray-23", "of the key"}, []any{up.User, up.Identity, w.asked[0].Stamp})
		require.NotEmpty(t, w.asked[0].Key)
		est, ok := find[Established](w)
		require.True(t, ok, "%v", w.failure())
		require.Equal(t, mixed != nil && mixed.Demand, w.i.mixedIn)
		require.Equal(t, up.Child.InKey, est.Child.OutKey)
		w.run(w.i.Alive(w.now), true)
		require.False(t, w.i.Waiting())
		w.again(t, est.Ticket, nil)
		w.back = func([]byte) conversation.Outcome { return conversation.Outcome{OK: true, User: user, Known: true} }
		w.login()
		est, ok = find[Established](w)
		require.True(t, ok && est.Back, "%v", w.failure())
	}
	same := func(*Settings, *Caller) {}
	for what, x := range map[string]struct {
		change func(*Settings, *Caller)
		owner  string
		why    reason.Code
	}{
		"another's device":        {same, "wanda.warden", reason.KeyOfAnother},
		"the certificate alone":   {func(_ *Settings, c *Caller) { c.Both = false }, user, reason.WrongLoginMethod},
		"the password alone":      {func(_ *Settings, c *Caller) { c.Key, c.Both = nil, false }, user, reason.WrongLoginMethod},
		"both, where one will do": {func(s *Settings, _ *Caller) { s.Proof = ByCertificate }, user, reason.WrongLoginMethod},
		"a wrong password":        {func(_ *Settings, c *Caller) { c.Password = "another one, quite" }, user, reason.WrongPassword},
	} {
		w := login(x.change, x.owner)
		require.Error(t, w.failure(), what)
		note, _ := find[Note](w)
		require.Equal(t, x.why, note.Reason.Code, what)
		require.Zero(t, w.l.Sessions()+w.l.HalfOpen(), what)
	}
}

// What is signed with is what is believed: a certificate beside another key, twice the same payload, and a chain whose first certificate is
// somebody else's are refused, in any order.
func TestOneKeyIsShown(t *testing.T) {
	keys := keysOfPeople()
	mine, theirs := keys["P-256"], keys["Ed25519"]
	raw := payload{kind: plCert, body: append([]byte{certRawKey}, must(x509.MarshalPKIXPublicKey(mine.Public()))...)}
	rawTheirs := payload{kind: plCert, body: append([]byte{certRawKey}, must(x509.MarshalPKIXPublicKey(theirs.Public()))...)}
	own := payload{kind: plCert, body: append([]byte{certX509}, certificateOf(mine)...)}
	victim := payload{kind: plCert, body: append([]byte{certX509}, certificateOf(theirs)...)}
	elsewhere := payload{kind: plCert, body: append([]byte{12}, make([]byte, 20)...)} // hash and URL (RFC 7296 §3.6)
	for what, x := range map[string]struct {
		proof Proof
		shown []payload
		why   reason.Code // none: they are let in, by the key that they have
	}{
		"a raw key behind a certificate":       {ByCertificate, []payload{victim, raw}, reason.KeyUnreadable},
		"a raw key before it":                  {ByCertificate, []payload{raw, victim}, reason.KeyUnreadable},
		"the same with a password to follow":   {ByBoth, []payload{victim, raw}, reason.KeyUnreadable},
		"two raw keys":                         {ByPublicKey, []payload{rawTheirs, raw}, reason.KeyUnreadable},
		"two raw keys, the own one first":      {ByPublicKey, []payload{raw, rawTheirs}, reason.KeyUnreadable},
		"a certificate where a key is wanted":  {ByPublicKey, []payload{victim, raw}, reason.KeyUnreadable},
		"another's certificate first":          {ByCertificate, []payload{victim, own}, reason.WrongProof},
		"another's certificate behind":         {ByCertificate, []payload{own, victim}, ""},
		"hash and URL beside a certificate":    {ByCertificate, []payload{elsewhere, own}, ""},
		"hash and URL alone":                   {ByCertificate, []payload{elsewhere}, reason.KeyUnreadable},
		"a certificate that cannot be read":    {ByCertificate, []payload{own, {kind: plCert, body: []byte{certX509, 1}}}, reason.KeyUnreadable},
		"hash and URL beside another's, own 2": {ByCertificate, []payload{elsewhere, victim, own}, reason.WrongProof},
	} {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.Proof, c.Key, c.Password = x.proof, mine, ""
			c.Both = x.proof == ByBoth
		})
		w.owner = conversation.Outcome{OK: true, User: "rory", Known: true}
		w.alter = func(ps []payload) []payload {
			ps = slices.DeleteFunc(ps, func(p payload) bool { return p.kind == plCert })
			return append(slices.Clone(x.shown), ps...)
		}
		w.login()
		note, refused := find[Note](w)
		if x.why == "" {
			require.False(t, refused, "%s: %v", what, note.Reason)
			require.Equal(t, must(x509.MarshalPKIXPublicKey(mine.Public())), w.shown.PublicKey, what)
			require.Equal(t, own.body[1:], w.shown.Chain[0], what)
			continue
		}
		require.True(t, refused, what)
		require.Equal(t, x.why, note.Reason.Code, what)
		require.Empty(t, w.shown.PublicKey, "%s: nobody is asked whose it is", what)
		require.Zero(t, w.l.Sessions(), what)
	}
}

// Another identity than the one that is signed, beside it, is refused.
func TestTwoIdentities(t *testing.T) {
	w := newWorld(t, func(s *Settings, c *Caller) { s.Proof, c.Key = ByPublicKey, keysOfPeople()["P-256"] })
	w.owner = conversation.Outcome{OK: true, User: "rory", Known: true}
	w.alter = func(ps []payload) []payload { // another identity than the one that is signed
		return append(ps, payload{kind: plIDi, body: identityFor("mallory@tern.example").body()})
	}
	w.login()
	require.Empty(t, w.shown.PublicKey)
	require.Zero(t, w.l.Sessions())
}
