package people

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

func pemOf(kind string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}))
}

// What a device gives of its key is a public key or a signing request, and nothing else.
func TestReadPublic(t *testing.T) {
	must := func(b []byte, err error) []byte { require.NoError(t, err); return b }
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki := must(x509.MarshalPKIXPublicKey(key.Public()))
	request := must(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key))
	for text, asks := range map[string]bool{
		pemOf("PUBLIC KEY", spki): false, "\n" + pemOf("CERTIFICATE REQUEST", request) + "\n": true, pemOf("NEW CERTIFICATE REQUEST", request): true,
	} {
		got, is, err := ReadPublic(text)
		require.NoError(t, err)
		require.Equal(t, spki, got)
		require.Equal(t, asks, is)
	}
	short, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	long := &rsa.PublicKey{N: new(big.Int).SetBit(big.NewInt(1), 16_384, 1), E: 65537}
	p224, err := ecdsa.GenerateKey(elliptic.P224(), rand.Reader)
	require.NoError(t, err)
	request[len(request)-1] ^= 1
	for text, says := range map[string]string{
		"rory": "no PEM",
		"":     "no PEM",
		pemOf("PUBLIC KEY", spki) + pemOf("PUBLIC KEY", spki):                 "more than one key",
		pemOf("PRIVATE KEY", must(x509.MarshalPKCS8PrivateKey(key))):          "private key, which must not leave",
		pemOf("EC PRIVATE KEY", must(x509.MarshalECPrivateKey(key))):          "private key, which must not leave",
		pemOf("CERTIFICATE", spki):                                            "certificate: give",
		pemOf("CERTIFICATE REQUEST", request):                                 "signing request cannot be taken",
		pemOf("PUBLIC KEY", spki[:20]):                                        "cannot be read",
		pemOf("PUBLIC KEY", must(x509.MarshalPKIXPublicKey(short.Public()))):  "1024 bits",
		pemOf("PUBLIC KEY", must(x509.MarshalPKIXPublicKey(long))):            "16385 bits",
		pemOf("PUBLIC KEY", must(x509.MarshalPKIXPublicKey(&p224.PublicKey))): "P-256, P-384 or P-521",
	} {
		_, _, err := ReadPublic(text)
		require.ErrorContains(t, err, says)
	}
}

// A key is somebody's until it is taken back, its certificate has expired, or they are gone or switched off; it stays known, so that it
// never becomes another's. What a device remembers of a login by it dies with it.
func TestOwner(t *testing.T) {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	p, ctx := New(s), t.Context()
	require.NoError(t, p.Add(ctx, User{Name: "rory", Groups: []string{"researchers"}}, "tide 4 tern and wind"))
	require.NoError(t, p.Add(ctx, User{Name: "wanda"}, "tide 4 tern and wind"))
	public, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	shown := login.Key{Public: spki}
	why := func() reason.Code { return p.Owner(ctx, shown).Why.Code }
	require.Equal(t, reason.KeyUnknown, why())

	k, err := p.AddKey(ctx, "rory", "cray-23", spki, nil)
	require.NoError(t, err)
	require.Equal(t, cert.Fingerprint(spki), k.Fingerprint)
	who := p.Owner(ctx, shown)
	require.True(t, who.OK)
	require.Equal(t, []any{"rory", []string{"researchers"}}, []any{who.User, who.Groups})
	groups, err := p.Again(ctx, "rory", who.Stamp)
	require.NoError(t, err)
	require.Equal(t, []string{"researchers"}, groups.Groups)
	_, err = p.Again(ctx, "wanda", who.Stamp)
	require.ErrorIs(t, err, login.ErrStamp)
	_, err = p.AddKey(ctx, "wanda", "", spki, nil)
	require.ErrorIs(t, err, store.ErrExists)
	_, err = p.AddKey(ctx, "nobody", "", append([]byte{}, spki[1:]...), nil)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.Equal(t, reason.KeyOther, p.Owner(ctx, login.Key{Public: spki, Chain: [][]byte{{1}}}).Why.Code)

	require.NoError(t, s.SetPassword(ctx, "rory", store.NewPassword{Text: "another tide and tern", Challenge: true}))
	_, err = p.Again(ctx, "rory", who.Stamp)
	require.ErrorIs(t, err, login.ErrStamp)
	who = p.Owner(ctx, shown)
	require.NoError(t, p.Change(ctx, User{Name: "rory", Off: true}))
	require.Equal(t, reason.SwitchedOff, why())
	require.NoError(t, p.Change(ctx, User{Name: "rory"}))
	_, err = p.RevokeKey(ctx, k.Fingerprint)
	require.NoError(t, err)
	require.Equal(t, reason.KeyRevoked, why())
	_, err = p.Again(ctx, "rory", who.Stamp)
	require.ErrorIs(t, err, login.ErrStamp)
	_, err = p.RevokeKey(ctx, "00:11")
	require.ErrorIs(t, err, store.ErrNotFound)

	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island")
	require.NoError(t, err)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err = x509.MarshalPKIXPublicKey(key.Public())
	require.NoError(t, err)
	leaf, err := ca.NewPerson(rand.Reader, time.Now().Add(-cert.PersonLife), "wanda", spki)
	require.NoError(t, err)
	require.NoError(t, leaf.CheckSignatureFrom(ca.Leaf))
	require.Equal(t, []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, leaf.ExtKeyUsage)
	_, err = p.AddKey(ctx, "wanda", "", spki, leaf)
	require.NoError(t, err)
	shown = login.Key{Public: spki, Chain: [][]byte{leaf.Raw}}
	require.Equal(t, reason.KeyExpired, why())
	shown.Chain = nil
	require.Equal(t, reason.KeyOther, why())
	require.NoError(t, p.Remove(ctx, "wanda"))
	require.Equal(t, reason.KeyRevoked, why())
	all, err := p.Keys(ctx, "")
	require.NoError(t, err)
	require.Len(t, all, 2)

	lent := p.Lend([]string{"wardens"})
	spki, err = x509.MarshalPKIXPublicKey(lent.Key.Public())
	require.NoError(t, err)
	require.Equal(t, lent.Name, p.Owner(ctx, login.Key{Public: spki}).User)
	p.TakeBack(lent)
	require.Equal(t, reason.KeyUnknown, p.Owner(ctx, login.Key{Public: spki}).Why.Code)
}

// A shared key is one person's, for one use, until it is taken back or they are gone or switched off; one that can be guessed, or that is
// somebody else's, is refused.
func TestShared(t *testing.T) {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	ctx, p := t.Context(), New(s)
	for _, name := range []string{"rory", "wanda"} {
		require.NoError(t, p.Add(ctx, User{Name: name, Groups: []string{"researchers"}}, "four unrelated words"))
	}
	given := "a key of 20 and more characters"
	for value, says := range map[string]string{"short": "can be guessed", "aaaaaaaaaaaaaaaaaaaaaaaaa": "so few different"} {
		_, err = p.MakeShared(ctx, SharedKey{User: "rory", Use: UseLogin}, value)
		require.ErrorContains(t, err, says)
	}
	_, err = p.MakeShared(ctx, SharedKey{User: "nobody", Use: UseMixedIn}, "")
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = p.MakeShared(ctx, SharedKey{User: "rory", Use: UseMixedIn}, given)
	require.ErrorContains(t, err, "is generated")
	login1, err := p.MakeShared(ctx, SharedKey{User: "rory", Use: UseLogin}, given)
	require.NoError(t, err)
	require.Empty(t, login1.Value, "who gave it knows it")
	_, err = p.MakeShared(ctx, SharedKey{User: "rory", Use: UseLogin}, "")
	require.ErrorIs(t, err, store.ErrExists)
	_, err = p.MakeShared(ctx, SharedKey{User: "wanda", Use: UseLogin}, given)
	require.ErrorIs(t, err, ErrSharedByOther)
	mixed, err := p.MakeShared(ctx, SharedKey{User: "rory", Use: UseMixedIn, Device: "laptop"}, "")
	require.NoError(t, err)
	require.Equal(t, mixed.ID+" "+mixed.Value, mixed.ForDial)

	ask := func(mixedIn bool, identity string) login.Shared {
		return p.Shared(ctx, login.SharedKey{MixedIn: mixedIn, Identity: identity})
	}
	who := ask(false, "rory")
	require.True(t, who.OK)
	require.Equal(t, []any{given, "rory", []string{"researchers"}, login1.ID}, []any{string(who.Secret), who.User, who.Groups, who.ID})
	require.Equal(t, mixed.Value, string(ask(true, mixed.ID).Secret))
	for _, none := range []login.Shared{ask(true, "rory"), ask(false, mixed.ID), ask(true, login1.ID), ask(false, "wanda"), ask(true, "")} {
		require.False(t, none.OK)
		require.Empty(t, none.Secret)
	}
	groups, err := p.Again(ctx, "rory", who.Stamp)
	require.NoError(t, err)
	require.Equal(t, []string{"researchers"}, groups.Groups)
	persons, err := p.Persons(ctx)
	require.NoError(t, err)
	require.ElementsMatch(t, []string{"pre-shared-key", "mixed-in"}, persons[0].Keys)

	require.NoError(t, p.Change(ctx, User{Name: "rory", Off: true}))
	require.Equal(t, reason.SwitchedOff, ask(true, mixed.ID).Why.Code)
	require.NoError(t, p.Change(ctx, User{Name: "rory"}))
	_, err = p.RemoveShared(ctx, mixed.ID)
	require.NoError(t, err)
	require.Equal(t, reason.MixedKeyUnknown, ask(true, mixed.ID).Why.Code)
	_, err = p.Again(ctx, "rory", who.Stamp)
	require.ErrorIs(t, err, login.ErrStamp, "what a device has to come back by dies with any shared key")
	require.NoError(t, p.Remove(ctx, "rory"))
	require.Equal(t, reason.SharedKeyUnknown, ask(false, "rory").Why.Code)
	list, err := p.SharedKeys(ctx, "")
	require.NoError(t, err)
	require.Empty(t, list)
}

// judges counts what it is asked about certificates of others, and believes every one.
type judges struct {
	asked int
	leaf  *x509.Certificate
}

func (j *judges) Judge(context.Context, string, [][]byte) Judged {
	j.asked++
	return Judged{Authority: "institute", Person: "rory.researcher", Leaf: j.leaf}
}
func (j *judges) Gone(context.Context, store.PersonKey) bool { return false }

// A certificate is believed only for the key that it holds: whoever asks with another is refused, and leaves nothing behind.
func TestCertificateOfAnotherKey(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	p := New(st)
	require.NoError(t, p.Add(t.Context(), User{Name: "rory.researcher", Groups: []string{"researchers"}}, "salt-harbour-plank"))
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(0x1f4a), Subject: pkix.Name{CommonName: "institute"}, NotAfter: time.Now().Add(time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	j := &judges{leaf: leaf}
	p.Foreign = j
	mine, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(mine.Public())
	require.NoError(t, err)
	for what, chain := range map[string][][]byte{"another's": {der}, "unreadable": {{1, 2, 3}}, "another's, twice": {der, der}} {
		o := p.Owner(t.Context(), login.Key{Tunnel: "main", Public: spki, Chain: chain})
		require.False(t, o.OK, what)
		require.Equal(t, reason.KeyOther, o.Why.Code, what)
	}
	require.Zero(t, j.asked, "nobody is asked whom it names")
	keys, err := p.Keys(t.Context(), "")
	require.NoError(t, err)
	require.Empty(t, keys)

	o := p.Owner(t.Context(), login.Key{Tunnel: "main", Public: leaf.RawSubjectPublicKeyInfo, Chain: [][]byte{der}})
	require.True(t, o.OK, "%v", o.Why)
	require.Equal(t, "certificate 1f4a of CN=institute, key "+cert.Fingerprint(leaf.RawSubjectPublicKeyInfo), o.ProvedBy)
	o = p.Owner(t.Context(), login.Key{Tunnel: "main", Public: leaf.RawSubjectPublicKeyInfo})
	require.False(t, o.OK, "its key without the certificate")
}
