package probe

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/cert"
)

var someOrder = Order{User: "rory.researcher", Dial: "gate.tern.example", Algorithms: algorithm.OfLevel(algorithm.Strict)}

// signing signs apart with several certificates.
func signing(t testing.TB, ca *cert.Pair, signers ...*cert.Pair) func([]byte) ([]byte, error) {
	return func(b []byte) ([]byte, error) {
		s, err := pkcs7.NewSignedData(b)
		require.NoError(t, err)
		for _, p := range signers {
			require.NoError(t, s.AddSigner(p.Leaf, p.Key, pkcs7.SignerInfoConfig{}))
		}
		s.AddCertificate(ca.Leaf)
		s.Detach()
		return s.Finish()
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func authority(t testing.TB) (ca, signer *cert.Pair) {
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island")
	require.NoError(t, err)
	signer, err = ca.NewSigner(rand.Reader, time.Now(), "kits")
	require.NoError(t, err)
	return ca, signer
}

// A kit that was changed on the way is told, and so is one that somebody signed with another certificate of the authority: everybody with
// an account has such a one. By whom it is signed stands in the file, for whoever wants to know before it is used.
func TestKitIsSigned(t *testing.T) {
	ca, signer := authority(t)
	kit, err := WriteKit(someOrder, []string{"AA", "BB"}, signing(t, ca, signer))
	require.NoError(t, err)
	k, err := ReadKit(kit)
	require.NoError(t, err)
	require.Equal(t, cert.Fingerprint(ca.DER), k.Signer)
	require.Equal(t, []string{"AA", "BB"}, k.Authorities)

	key := must(cert.NewKey(rand.Reader))
	leaf := must(ca.NewPerson(rand.Reader, time.Now(), "rory.researcher", must(x509.MarshalPKIXPublicKey(key.Public()))))
	person := &cert.Pair{Leaf: leaf, DER: leaf.Raw, Key: key}
	other, another := authority(t)
	at := bytes.Index(kit, []byte("-----BEGIN"))
	for name, c := range map[string]struct {
		kit  []byte
		says string
	}{
		"changed":            {bytes.Replace(kit, []byte("gate.tern"), []byte("evil.tern"), 1), "somebody changed it"},
		"signature cut off":  {kit[:at], "cut off"},
		"half a signature":   {kit[:len(kit)-100], "cannot be read"},
		"more behind it":     {append(bytes.Clone(kit), "{}"...), "cannot be read"},
		"by a person":        {must(WriteKit(someOrder, nil, signing(t, ca, person))), "somebody changed it"},
		"by two":             {must(WriteKit(someOrder, nil, signing(t, ca, signer, signer))), "several"},
		"of no authority":    {must(WriteKit(someOrder, nil, signing(t, other, signer))), "authority of its signer"},
		"nobody's signature": {must(WriteKit(someOrder, nil, signing(t, ca))), "several"},
	} {
		_, err := ReadKit(c.kit)
		require.ErrorContains(t, err, c.says, name)
	}
	k, err = ReadKit(must(WriteKit(someOrder, nil, signing(t, other, another))))
	require.NoError(t, err)
	require.Equal(t, cert.Fingerprint(other.DER), k.Signer)
	k, err = ReadKit(bytes.Replace(kit[:at], []byte(`"format": 3`), []byte(`"format": 2`), 1))
	require.NoError(t, err)
	require.Empty(t, k.Signer, "of a version that did not sign")
	early := must(ca.NewSigner(rand.Reader, time.Now().Add(-3*time.Hour), "kits"))
	_, err = ReadKit(must(WriteKit(someOrder, nil, signing(t, ca, early))))
	require.NoError(t, err, "made after a clock went back behind the authority's begin")
}

// A kit comes from elsewhere: what is read can be written and is the same, everything else is an error in words.
func FuzzReadKit(f *testing.F) {
	ca, signer := authority(f)
	b, err := WriteKit(someOrder, nil, signing(f, ca, signer))
	require.NoError(f, err)
	f.Add(b)
	f.Add([]byte(`{"format": 2}`))
	f.Add(bytes.Replace(b, []byte(`"format": 3`), []byte(`"format": 2`), 1)[:bytes.Index(b, []byte("-----BEGIN"))])
	f.Fuzz(func(t *testing.T, b []byte) {
		k, err := ReadKit(b)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		again, err := WriteKit(k.Order, nil, signing(t, ca, signer))
		require.NoError(t, err)
		same, err := ReadKit(again)
		require.NoError(t, err)
		require.Equal(t, k.Dial, same.Dial)
	})
}
