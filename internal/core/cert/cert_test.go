package cert

import (
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/x509"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)

// A gateway's certificate is good for the names that people dial, under its authority, while it lasts, and for nothing else.
func TestGatewayCertificate(t *testing.T) {
	ca, err := NewAuthority(rand.Reader, now, "Tern Island")
	require.NoError(t, err)
	pair, err := ca.NewGateway(rand.Reader, now, "gate.tern.example", "192.0.2.10", "2001:db8::10")
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(ca.PEM())
	for _, name := range []string{"gate.tern.example", "192.0.2.10", "2001:db8::10"} {
		_, err := pair.Leaf.Verify(x509.VerifyOptions{DNSName: name, Roots: roots, CurrentTime: now.Add(time.Minute)})
		require.NoError(t, err)
		require.Empty(t, Problem(pair.Leaf, name, now))
	}
	require.Contains(t, Problem(pair.Leaf, "other.tern.example", now), "does not hold")
	require.Contains(t, Problem(pair.Leaf, "gate.tern.example", now.Add(GatewayLife+time.Hour)), "expired")
	require.Contains(t, Problem(pair.Leaf, "gate.tern.example", now.Add(-2*time.Hour)), "not valid before")
	require.Contains(t, Problem(ca.Leaf, "gate.tern.example", now), "does not hold")
	other, err := NewAuthority(rand.Reader, now, "Tern Island")
	require.NoError(t, err)
	stranger := x509.NewCertPool()
	stranger.AddCert(other.Leaf)
	_, err = pair.Leaf.Verify(x509.VerifyOptions{DNSName: "gate.tern.example", Roots: stranger, CurrentTime: now})
	require.Error(t, err)
	require.NotEqual(t, ca.Leaf.SerialNumber, other.Leaf.SerialNumber)
	_, err = ca.NewGateway(rand.Reader, now)
	require.Error(t, err)

	key, err := pair.KeyDER()
	require.NoError(t, err)
	again, err := Load(pair.DER, nil, key)
	require.NoError(t, err)
	require.True(t, pair.Key.(*ecdsa.PrivateKey).Equal(again.Key))
	_, err = Load(ca.DER, nil, key)
	require.ErrorContains(t, err, "does not belong")
	_, err = Load([]byte("x"), nil, key)
	require.Error(t, err)
	_, err = Load(pair.DER, nil, []byte("x"))
	require.Error(t, err)
}
