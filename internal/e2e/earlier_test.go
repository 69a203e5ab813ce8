package e2e

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/tour"
)

// A folder of an earlier version, whose plan names algorithms by joined words: it runs as it did, a finding says so, and one command
// rewrites the plan, which then is committed.
func TestFolderOfAnEarlierVersionRuns(t *testing.T) {
	o := options(t)
	d, err := tour.Prepare(t.Context(), "", options(t)) // whose site is the same
	require.NoError(t, err)
	d.Stop()
	o.SiteLab = d.Scenario.Site
	in, err := os.Open("../store/testdata/shape-8.db.gz")
	require.NoError(t, err)
	defer in.Close()
	z, err := gzip.NewReader(in)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(o.Data, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(o.Data, "yellowlantern.db"), b, 0o600))
	key, err := os.ReadFile("../store/testdata/shape-8.key")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(o.Data, "key"), key, 0o600))
	i, err := instance.Start(t.Context(), o)
	require.NoError(t, err)
	defer i.Stop()
	token, err := i.App.Access.MakeToken(actor.With(t.Context(), actor.Actor{Name: "admin"}), "trial", 1, "")
	require.NoError(t, err)
	s, err := client.Get[running.Status](t.Context(), client.New(i.URL(), token), "/status")
	require.NoError(t, err)
	require.Empty(t, s.Problem)
	require.Equal(t, 1, s.Runs)

	x := terminal{t, filepath.Join(t.TempDir(), "access.json")}
	require.NoError(t, cli.WriteAccess(x.access, cli.Access{URL: i.URL(), Token: token}))
	_, _, err = x.run("plan", "set", "name", "Tern Island")
	require.NoError(t, err)
	text, _, _ := x.run("plan", "check")
	require.Contains(t, squeezed(text), "algorithms-renamed@tunnels/main/suites")
	text, exit, err := x.run("plan", "mend", "algorithms-renamed@tunnels/main/suites")
	require.NoError(t, err, text)
	require.Zero(t, exit)
	text, _, err = x.run("plan", "commit", "-m", "as they are called now", "--accept", "all", "--because", "one factor, as before")
	require.NoError(t, err, text)
	text, _, err = x.run("plan", "show")
	require.NoError(t, err)
	require.Contains(t, text, "algorithms: {encryption: [AES-256-GCM-16], prf: [PRF-HMAC-SHA2-256], groups: [X25519, P-256]}")
	require.NotContains(t, text, "suites")
}
