package e2e

import (
	"crypto/x509"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/probe"
)

// A person is handed what their device needs, signed where its system looks for that and without anything secret; the list of handovers
// says who has what, whose is stale after a commit, who failed and who never came, with the next step for each.
func TestHandover(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	folder := t.TempDir()
	secret := d.Passwords["rory.researcher"]
	for _, p := range []string{"apple", "windows", "android"} {
		out, _, err := x.run("users", "kit", "rory.researcher", "--platform", p, "--out", folder)
		require.NoError(t, err)
		require.Contains(t, out, "gate.tern.example")
	}
	files, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, files, 4)
	for _, f := range files {
		b, err := os.ReadFile(filepath.Join(folder, f.Name()))
		require.NoError(t, err)
		require.NotContains(t, string(b), secret)
		require.NotContains(t, string(b), "wanda", "nobody else's")
	}
	der, err := os.ReadFile(filepath.Join(folder, "authority.cer"))
	require.NoError(t, err)
	authority, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	b, err := os.ReadFile(filepath.Join(folder, "rory.researcher.mobileconfig"))
	require.NoError(t, err)
	signed, err := pkcs7.Parse(b)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(authority)
	require.NoError(t, signed.VerifyWithChain(roots))
	var profile map[string]any
	_, err = plist.Unmarshal(signed.Content, &profile)
	require.NoError(t, err)

	row := func(user string) (r handover.Row) {
		out, _, err := x.run("--json", "handover", "--filter", user)
		require.NoError(t, err)
		var rows []handover.Row
		require.NoError(t, json.Unmarshal([]byte(out), &rows))
		require.Len(t, rows, 1)
		return rows[0]
	}
	require.Equal(t, "they have no kit", row("wanda.warden").Next)
	require.Contains(t, row("rory.researcher").Next, "never came")
	_, _, _ = x.run("probe", "--user", "wanda.warden", "--password-file", write(t, "a wrong password"))
	require.Contains(t, row("wanda.warden").Next, "password was wrong")
	_, _, err = x.run("probe", "--user", "rory.researcher", "--password-file", write(t, secret))
	require.NoError(t, err)
	r := row("rory.researcher")
	require.Empty(t, r.Next)
	require.False(t, r.First.IsZero())

	tn, err := probe.Open(t.Context(), home(t, d), order(t, d, "vera.volunteer"), probe.Options{Password: d.Passwords["vera.volunteer"]})
	require.NoError(t, err)
	require.Contains(t, row("vera.volunteer").Device, "from 203.0.113.")
	tn.Close()

	recommit(t, d, "name: Tern Island Observatory", "name: Tern Island")
	r = row("rory.researcher")
	require.Contains(t, r.Next, "is stale")
	_, _, err = x.run("users", "kit", "rory.researcher", "--platform", r.Kits[0].Platform, "--out", folder)
	require.NoError(t, err)
	require.Empty(t, row("rory.researcher").Kits[0].Stale)

	_, code, err := x.run("users", "kit", "nobody", "--platform", "apple", "--out", folder)
	require.NotZero(t, code, "%v", err)
	_, _, err = x.run("users", "kit", "rory.researcher", "--platform", "toaster", "--out", folder)
	require.ErrorContains(t, err, "windows, apple, android")
	_, _, err = x.run("users", "change", "rory.researcher", "--group", "idle", "--new-group")
	require.NoError(t, err)
	_, _, err = x.run("users", "kit", "rory.researcher", "--platform", "apple", "--out", folder)
	require.ErrorContains(t, err, "no passage admits")
	require.Contains(t, row("rory.researcher").Next, "no passage admits them")
}
