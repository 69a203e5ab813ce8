package e2e

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// A tunnel that has passwords handed over inside TLS: right and wrong ones, and a first one that is to be changed elsewhere. Trials by it
// see what is computed, and a device that is asked for another method is refused in words.
func TestPasswordInsideTLS(t *testing.T) {
	d := island(t, nil)
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls")
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	x := newTerminal(t, d)
	out, _, err := x.run("probe", "--user", "rory.researcher", "--vantage", "home", "--password-file",
		write(t,
			d.Passwords["rory.researcher"]+"\n"))
	require.NoError(t, err, "the command line hands a password over too: %s", out)
	_, err = with(t, d, "rory.researcher", func(_ *probe.Order, o *probe.Options) { o.Password = "not this one, though" })
	require.Error(t, err)
	journaled(t, d, "refused", "wrong password")
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls\n    also-login: [eap-mschapv2]")
	kit, err := d.App.Handover.Make(t.Context(), "rory.researcher", "android", handover.Wants{})
	require.NoError(t, err, "a device without EAP-TTLS comes in by the other method")
	require.NotEmpty(t, kit.Steps)
	x.did("plan", "set", "tunnels/main/login", "eap-tls")
	x.did("plan", "set", "tunnels/main/also-login", "[]")
	x.did("plan", "commit", "-m", "certificates inside EAP", "--accept", "all", "--because", "keys follow")
	_, err = with(t, d, "rory.researcher", nil)
	require.Error(t, err, "a password is nobody's way in there")
	x.did("slowed", "lift")
	// By a certificate, with TLS inside EAP inside IKE, by either version of TLS; not by one that was taken back, nor by nobody's.
	own := func(known bool) (crypto.Signer, *x509.Certificate) {
		key, err := cert.NewKey(rand.Reader)
		require.NoError(t, err)
		if known {
			request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
			require.NoError(t, err)
			public := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: request})
			block, _ := pem.Decode([]byte(x.did("users", "keys", "add", "rory.researcher", "--public", write(t,
				string(public)), "--device", "laptop")))
			leaf, err := x509.ParseCertificate(block.Bytes)
			require.NoError(t, err)
			return key, leaf
		}
		ca, err := d.Store.Certificate(t.Context(), store.AuthorityName)
		require.NoError(t, err)
		spki, err := x509.MarshalPKIXPublicKey(key.Public())
		require.NoError(t, err)
		leaf, err := ca.NewPerson(rand.Reader, time.Now(), "rory.researcher", spki)
		require.NoError(t, err)
		return key, leaf
	}
	enters := func(key crypto.Signer, leaf *x509.Certificate) error {
		o := order(t, d, "rory.researcher")
		require.Equal(t, "eap-tls", o.Proof)
		o.TCPPort = 0
		ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
		defer stop()
		tn, err := probe.Open(ctx, from(t, d, "home"), o, probe.Options{Key: key, Certificate: leaf.Raw})
		if err != nil {
			return err
		}
		defer tn.Close()
		return ping(t, tn, "10.20.30.5")
	}
	key, leaf := own(true)
	require.NoError(t, enters(key, leaf))
	stranger, unknown := own(false)
	require.Error(t, enters(stranger, unknown))
	require.Error(t, enters(stranger, leaf), "a certificate without its key")
	x.did("users", "keys", "revoke", cert.Fingerprint(leaf.RawSubjectPublicKeyInfo))
	require.Error(t, enters(key, leaf))
	out, _, err = x.run("validate", "--try", "--vantage", "home")
	require.NoError(t, err, "identities of trials come in all the same: %s", out)
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls\n    also-login: [eap-mschapv2]")
	x.did("slowed", "lift")
	out, _, err = x.run("validate", "--try", "--vantage", "home")
	require.NoError(t, err, out)
}

// An NT hash is kept only where somebody logs in by an answer to a challenge: where passwords are handed over it is forgotten, at a login
// or in time. A plan that has need of one again says whose password it cannot judge, and has it once they handed it over.
func TestNTHashesAreForgotten(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	has := func(user string) bool {
		_, kept, err := d.Store.Password(t.Context(), user)
		require.NoError(t, err)
		require.True(t, kept.Is(d.Passwords[user]))
		_, ok := kept.NTHash()
		return ok
	}
	enters := func(user string) error {
		o := order(t, d, user)
		o.TCPPort = 0
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		defer stop()
		tn, err := probe.Open(ctx, from(t, d, "home"), o, probe.Options{Password: d.Passwords[user]})
		if err == nil {
			tn.Close()
		}
		return err
	}
	names, err := d.People.ForgetNTHashes(t.Context())
	require.NoError(t, err)
	require.Empty(t, names, "each is needed")
	recommit(t, d, "    internet: true\n", "    internet: true\n    defaults: {tunnels: [main]}\n",
		"    groups: [researchers]\n    tunnels: [main]\n",
		"    groups: [researchers]\n")
	names, err = d.People.ForgetNTHashes(t.Context())
	require.NoError(t, err)
	require.Empty(t, names, "also where the tunnel is the gateway's default")
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls")
	require.True(t, has("rory.researcher"))
	require.NoError(t, enters("rory.researcher"))
	require.False(t, has("rory.researcher"), "it was handed over")
	require.NoError(t, enters("rory.researcher"))
	names, err = d.People.ForgetNTHashes(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{"both.birdwatcher", "curt.contractor", "vera.volunteer", "wanda.warden"}, names)
	require.NoError(t, enters("wanda.warden"))
	made := strings.Fields(x.did("users", "password", "vera.volunteer", "--make-password"))
	d.Passwords["vera.volunteer"] = made[len(made)-1]
	require.False(t, has("vera.volunteer"))

	x.did("plan", "set", "tunnels/main/login", "eap-mschapv2")
	out, _, _ := x.run("plan", "check")
	require.Contains(t, squeezed(out), "password-kept-otherwise@passages/research/tunnels")
	require.Contains(t, squeezed(out), "both.birdwatcher, rory.researcher cannot come in")
	x.did("plan", "commit", "-m", "challenges", "--accept", "all", "--because", "a test")
	require.Error(t, enters("rory.researcher"))
	journaled(t, d, "refused", "kept such that no answer to a challenge can be judged")
	x.did("slowed", "lift")
	x.did("plan", "set", "tunnels/main/login", "eap-ttls")
	x.did("plan", "set", "tunnels/main/also-login", "[eap-mschapv2]")
	x.did("plan", "commit", "-m", "both", "--accept", "all", "--because", "a test")
	require.NoError(t, enters("rory.researcher"))
	require.True(t, has("rory.researcher"))
	require.False(t, has("wanda.warden"))
}
