package enrol

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"
)

func self(f testing.TB) Recipient {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(f, err)
	t := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "x"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	require.NoError(f, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(f, err)
	return Recipient{leaf, key}
}

// request is a message by a device, as it writes one.
func request(f testing.TB, device, to Recipient) []byte {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, device.Key)
	require.NoError(f, err)
	sealed, err := pkcs7.Encrypt(der, []*x509.Certificate{to.Certificate})
	require.NoError(f, err)
	signed, err := pkcs7.NewSignedData(sealed)
	require.NoError(f, err)
	require.NoError(f, signed.AddSigner(device.Certificate, device.Key, pkcs7.SignerInfoConfig{ExtraSignedAttributes: []pkcs7.Attribute{
		{Type: messageType, Value: First}, {Type: transaction, Value: "t"}, {Type: senderNonce, Value: []byte("n")},
	}}))
	out, err := signed.Finish()
	require.NoError(f, err)
	return out
}

// What is made of nothing but beginnings, or signed by a key of a stranger's that takes long, is refused before it is taken apart.
func TestMessagesAreMeasured(t *testing.T) {
	gateway, device := self(t), self(t)
	require.NoError(t, measure(request(t, device, gateway)))
	for what, b := range map[string][]byte{
		"one in the other":     bytes.Repeat([]byte{0x30, 0x80}, MostMessage/2),
		"with lengths":         bytes.Repeat([]byte{0x30, 0x83, 0, 0xff, 0xff}, MostMessage/5),
		"empty ones":           append([]byte{0x30, 0x82, 0xff, 0}, bytes.Repeat([]byte{0x30, 0}, MostMessage/2-4)...),
		"numbers":              append([]byte{0x30, 0x80}, bytes.Repeat([]byte{2, 1, 1}, MostMessage/3)...),
		"tags of many octets":  bytes.Repeat([]byte{0x3f, 0x81, 1, 0x80}, MostMessage/4),
		"a length of its own":  {0x30, 0x88, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff},
		"without an end of it": append(bytes.Repeat([]byte{0x24, 0x80}, 40), 4, 1, 1),
	} {
		require.ErrorIs(t, measure(b), errElements, what)
		_, err := Read(b, gateway)
		require.ErrorIs(t, err, errElements, what)
	}
	require.True(t, slow(&rsa.PublicKey{N: new(big.Int).Lsh(big.NewInt(1), 16384), E: 65537}))
	require.False(t, slow(device.Certificate.PublicKey))
}

// What a device asks for is read, and it reads what it is granted; nobody else can.
func TestAskedAndGranted(t *testing.T) {
	gateway, device, other := self(t), self(t), self(t)
	b := request(t, device, gateway)
	m, err := Read(b, gateway)
	require.NoError(t, err)
	require.Equal(t, device.Certificate.RawSubjectPublicKeyInfo, m.Public)
	_, err = Read(b, Recipient{gateway.Certificate, other.Key})
	require.ErrorIs(t, err, errSealed)
	m, err = Read(request(t, device, other), gateway)
	require.ErrorIs(t, err, errSealed)
	require.NotNil(t, m, "it can be refused")
	answer, err := m.Granted(gateway, other.Certificate, gateway.Certificate)
	require.NoError(t, err)
	outer, err := pkcs7.Parse(answer)
	require.NoError(t, err)
	require.NoError(t, outer.Verify())
	var said []byte
	require.NoError(t, outer.UnmarshalSignedAttribute(recipientNonce, &said))
	require.Equal(t, "n", string(said))
	sealed, err := pkcs7.Parse(outer.Content)
	require.NoError(t, err)
	_, err = sealed.Decrypt(device.Certificate, other.Key)
	require.Error(t, err)
	bag, err := sealed.Decrypt(device.Certificate, device.Key)
	require.NoError(t, err)
	held, err := pkcs7.Parse(bag)
	require.NoError(t, err)
	require.Equal(t, other.Certificate.Raw, held.Certificates[0].Raw)
	for i := range b { // no octet can be changed
		if i%97 != 0 {
			continue
		}
		changed := append([]byte{}, b...)
		changed[i] ^= 1
		if m, err := Read(changed, gateway); err == nil {
			require.Equal(t, device.Certificate.RawSubjectPublicKeyInfo, m.Public)
		}
	}
}

// Strangers' messages make nothing but errors.
func FuzzMessage(f *testing.F) {
	gateway := self(f)
	f.Add(request(f, self(f), gateway))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Read(b, gateway)
		if m != nil && err != nil {
			_, err := m.Refused(gateway, BadMessage)
			require.NoError(t, err)
		}
	})
}
