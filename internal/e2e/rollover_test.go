package e2e

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

func listID(ca *cert.Pair) string {
	sum := sha256.Sum256(ca.Leaf.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:8])
}

// Another authority takes the place of the own one: while it is announced kits hold both and it is told who has only the older one; once it
// signs, devices with such a kit get in and those without do not; nothing of the older one stays in use before it is forgotten. A service
// that dies on the way goes on where it was.
func TestRollOver(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	ctx := t.Context()
	run := x.did
	state := func() (r trust.Rollover) {
		require.NoError(t, json.Unmarshal([]byte(run("--json", "certificate", "roll-over")), &r))
		return r
	}
	stale := func() string {
		var rows []handover.Row
		require.NoError(t, json.Unmarshal([]byte(run("--json", "handover", "--filter", "rory")), &rows))
		return rows[0].Kits[0].Stale
	}
	enters := func(o probe.Order) error {
		tn, err := probe.Open(ctx, home(t, d), o, probe.Options{Password: d.Passwords["rory.researcher"]})
		if err == nil {
			tn.Close()
		}
		return err
	}
	refused := func(step, says string) {
		_, _, err := x.run("certificate", "roll-over", step)
		require.ErrorContains(t, err, says)
	}
	folder := t.TempDir()
	run("users", "kit", "rory.researcher", "--platform", "apple", "--out", folder)
	older := order(t, d, "rory.researcher")
	refused("sign", "no other authority is announced")
	refused("finish", "no authority is to be forgotten")
	refused("cancel", "no other authority is announced")
	require.Contains(t, run("certificate", "roll-over", "announce"), "hand over kits that hold both")
	run("certificate", "roll-over", "cancel")
	require.Equal(t, "none", state().State)
	run("certificate", "roll-over", "announce")
	refused("announce", "is announced already")
	require.Contains(t, stale(), "does not hold every authority")
	run("users", "kit", "rory.researcher", "--platform", "apple", "--out", folder)
	require.Empty(t, stale())
	newer := order(t, d, "rory.researcher")
	require.Equal(t, 2, strings.Count(newer.Authority, "BEGIN CERTIFICATE"))
	require.NoError(t, enters(older))
	require.NoError(t, enters(newer))
	_, _, err := x.run("certificate", "make", "authority-next", "--for", "gate.tern.example")
	require.ErrorContains(t, err, "authority's own")

	key, err := cert.NewKey(rand.Reader)
	require.NoError(t, err)
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	require.NoError(t, err)
	public := write(t, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: request})))
	run("users", "keys", "add", "wanda.warden", "--public", public, "--device", "tablet")

	// Killed after the first record of the step: nothing has changed.
	present, err := d.App.Trust.Store.Certificate(ctx, store.AuthorityName)
	require.NoError(t, err)
	require.NoError(t, d.App.Trust.Store.SaveCertificate(ctx, store.AuthorityBeforeName, present))
	require.Equal(t, "announced", state().State)

	before := state()
	require.Contains(t, run("certificate", "roll-over", "sign"), "wanda.warden (tablet)")
	after := state()
	require.Equal(t, []any{"signs", before.Next.Fingerprint, before.Present.Fingerprint}, []any{
		after.State, after.Present.Fingerprint, after.Before.Fingerprint,
	})
	require.Empty(t, stale(), "it holds both")
	require.ErrorContains(t, enters(older), "certificate")
	require.NoError(t, enters(newer))
	require.NoError(t, enters(order(t, d, "rory.researcher")))
	require.Contains(t, run("journal", "--code", "authority-changes"), "sign")

	// Either authority's certificates find the list that it signed; what was fetched before paths were apart is the older one's.
	now, err := d.App.Trust.Store.Certificate(ctx, store.AuthorityName)
	require.NoError(t, err)
	for path, by := range map[string]*cert.Pair{"": present, "-" + listID(present): present, "-" + listID(now): now} {
		answer, err := http.Get(d.URL() + "/authority" + path + ".crl")
		require.NoError(t, err)
		der, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		list, err := x509.ParseRevocationList(der)
		require.NoError(t, err, path)
		require.NoError(t, list.CheckSignatureFrom(by.Leaf), path)
	}
	answer, err := http.Get(d.URL() + "/authority-0123456789abcdef.crl")
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, http.StatusNotFound, answer.StatusCode)

	refused("finish", "wanda.warden (tablet)")
	run("users", "keys", "add", "wanda.warden", "--public", public, "--device", "tablet") // a newer certificate
	run("certificate", "roll-over", "finish")
	require.Equal(t, "none", state().State)
	require.Empty(t, stale())
	require.NoError(t, enters(newer))
}
