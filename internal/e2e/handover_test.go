package e2e

import (
	"crypto/x509"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
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

	script, err := os.ReadFile(filepath.Join(folder, "rory.researcher.ps1"))
	require.NoError(t, err)
	require.Contains(t, string(script), "# SIG # Begin signature block")

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
	require.ErrorContains(t, err, "windows, apple, android, yl-dial")
	_, _, err = x.run("users", "change", "rory.researcher", "--group", "idle", "--new-group")
	require.NoError(t, err)
	_, _, err = x.run("users", "kit", "rory.researcher", "--platform", "apple", "--out", folder)
	require.ErrorContains(t, err, "no passage admits")
	require.Contains(t, row("rory.researcher").Next, "no passage admits them")
}

// A commit says beforehand whose kits stop working and why, our own client's among them, and whose only hold older settings; nobody is
// named whose kit stays as it is.
func TestReviewNamesKits(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	folder := t.TempDir()
	out := x.did("users", "kit", "rory.researcher", "--platform", "yl-dial", "--out", folder)
	require.Contains(t, out, "rory.researcher.kit: for yl dial up, signed by the authority")
	require.Contains(t, out, "as root: yl dial up rory.researcher.kit")
	_, _, err := x.run("users", "kit", "rory.researcher", "--platform", "yl-dial", "--new-password", "--out", folder)
	require.ErrorContains(t, err, "holds no password and no key")
	_, err = login(t, d, "rory.researcher")
	require.NoError(t, err, "the password is as it was")
	b, err := os.ReadFile(filepath.Join(folder, "rory.researcher.kit"))
	require.NoError(t, err)
	k, err := probe.ReadKit(b)
	require.NoError(t, err)
	require.Equal(t, "gate.tern.example", k.Dial)
	x.did("probe", "kit", "--user", "wanda.warden", filepath.Join(folder, "wanda.kit"))
	x.did("users", "kit", "vera.volunteer", "--platform", "apple", "--out", folder)
	require.Contains(t, x.did("handover", "--filter", "wanda"), "yl-dial")

	text := d.Scenario.Plan
	review := func(change ...string) string {
		t.Helper()
		next := text
		for i := 0; i < len(change); i += 2 {
			require.Contains(t, next, change[i])
			next = strings.Replace(next, change[i], change[i+1], 1)
		}
		_, _, _ = x.run("plan", "load", write(t, next))
		out, _, _ := x.run("plan", "review")
		return strings.Join(strings.Fields(out), " ")
	}
	all := review("algorithms: {level: strict}",
		"algorithms: {encryption: [AES-256-CBC], integrity: [HMAC-SHA2-256-128], prf: [PRF-HMAC-SHA2-256], groups: [MODP-2048]}")
	require.Contains(t, all, "Kits that stop working")
	for _, says := range []string{
		"rory.researcher, yl-dial: it can agree with none of its algorithms", "vera.volunteer, apple: ", "wanda.warden, yl-dial",
	} {
		require.Contains(t, all, says)
	}
	named := review("dial: gate.tern.example", "dial: door.tern.example")
	require.Contains(t, named, "wanda.warden, yl-dial: it dials gate.tern.example, and people dial door.tern.example then")
	routes := review("routes: {split: [station, archive]}", "routes: {split: [station, archive, turbine]}")
	require.NotContains(t, routes, "Kits that stop working")
	require.Contains(t, routes, "Kits that go on working with older settings: 1, such as that of rory.researcher for yl-dial (routes)")
	require.NotContains(t, review("keep the island and everything on it", "keep the island"), "Kits that")
}
