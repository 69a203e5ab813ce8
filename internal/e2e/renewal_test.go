package e2e

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/connection"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// A device has the certificate of its key renewed in its last days, without an account and without anybody's doing; the older one counts
// until the newer one is shown, asked twice it is the same one, and a key that was taken back, or that nobody has, gets none.
func TestCertificateRenewsItself(t *testing.T) {
	d := island(t, func(o *instance.Options) {
		o.ListenTLS, o.Names = []string{"127.0.0.1:0"}, []string{"console.tern.example"}
	})
	ctx := t.Context()
	x := newTerminal(t, d)
	x.did("plan", "set", "tunnels/main/login", "certificate")
	x.did("plan", "commit", "-m", "certificates", "--accept", "all", "--because", "keys follow")
	require.Regexp(t, `^https://console.tern.example:\d+$`, order(t, d, "rory.researcher").Service)

	// A certificate with ten days left, as if it had been issued a year ago.
	keeper := d.App.Trust.Store
	ca, err := keeper.Certificate(ctx, store.AuthorityName)
	require.NoError(t, err)
	key, err := cert.NewKey(rand.Reader)
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	require.NoError(t, err)
	short := func(left time.Duration) []byte {
		der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
			SerialNumber: big.NewInt(int64(left)), Subject: pkix.Name{CommonName: "rory.researcher"}, DNSNames: []string{"rory.researcher"},
			NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(left), KeyUsage: x509.KeyUsageDigitalSignature,
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
		}, ca.Leaf, key.Public(), ca.Key)
		require.NoError(t, err)
		return der
	}
	older := short(10 * 24 * time.Hour)
	leaf, err := x509.ParseCertificate(older)
	require.NoError(t, err)
	k, err := d.App.Members.People.AddKey(ctx, "rory.researcher", "laptop", spki, leaf)
	require.NoError(t, err)
	enters := func(der []byte) error {
		tn, err := probe.Open(ctx, home(t, d), order(t, d, "rory.researcher"), probe.Options{Key: key, Certificate: der})
		if err == nil {
			tn.Close()
		}
		return err
	}
	require.NoError(t, enters(older))

	file := filepath.Join(t.TempDir(), "laptop.pem")
	authority, err := d.App.Trust.Authority(ctx)
	require.NoError(t, err)
	device := func() *connection.Renewer {
		return (&connection.Renewer{
			Service: d.URLs()[0], Authority: authority, Key: key, File: file, Log: slog.New(slog.DiscardHandler),
		}).Shows(older)
	}
	renewed, err := device().Renew(ctx, time.Now().Add(-25*24*time.Hour))
	require.NoError(t, err)
	require.False(t, renewed, "it is not due by the device's clock")
	var at sync.WaitGroup
	var same [4][]byte
	for i := range same { // at once: only one certificate comes of it
		at.Go(func() {
			r := device()
			r.File += strconv.Itoa(i)
			_, _ = r.Renew(ctx, time.Now())
			same[i] = r.Chain()[0]
		})
	}
	at.Wait()
	for _, der := range same {
		require.Equal(t, same[0], der)
		require.NotEqual(t, older, der)
	}
	r := device()
	renewed, err = r.Renew(ctx, time.Now())
	require.NoError(t, err)
	require.True(t, renewed)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	block, _ := pem.Decode(b)
	require.Equal(t, r.Chain()[0], block.Bytes)

	lost := device() // as if the answer had been lost
	renewed, err = lost.Renew(ctx, time.Now())
	require.NoError(t, err)
	require.True(t, renewed)
	require.Equal(t, r.Chain()[0], lost.Chain()[0], "the same one")
	require.NoError(t, enters(older), "until the newer one is shown")
	require.NoError(t, enters(r.Chain()[0]))
	require.Error(t, enters(older))
	renewed, err = r.Renew(ctx, time.Now())
	require.NoError(t, err)
	require.False(t, renewed)
	_, err = device().Renew(ctx, time.Now())
	require.ErrorContains(t, err, "last 30 days", "the service does not sign before")

	stranger := device()
	stranger.Key, err = cert.NewKey(rand.Reader)
	require.NoError(t, err)
	_, err = stranger.Renew(ctx, time.Now())
	require.ErrorContains(t, err, "is of nobody")
	unknown := device()
	unknown.Authority = otherAuthority(t)
	_, err = unknown.Renew(ctx, time.Now())
	require.ErrorContains(t, err, "certificate", "a service that it does not trust")
	require.NoError(t, d.App.Members.RevokeKey(ctx, k.Fingerprint))
	_, err = device().Renew(ctx, time.Now())
	require.ErrorContains(t, err, "was taken back")
	require.Error(t, enters(r.Chain()[0]))
}
