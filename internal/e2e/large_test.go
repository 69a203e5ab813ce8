package e2e

import (
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/testkit/bigplan"
)

// Of a large plan it is told how large it is; its board comes in parts, and the parts are the whole; what takes long on it is listed while
// it lasts, ends when who waits goes, and can be ended by others, who are named to who waits.
func TestLargePlan(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	p, _ := bigplan.Make(bigplan.Base)
	p.Sources = []plan.Source{{
		Name: "directory", Kind: plan.KindLDAP, Servers: []string{"ldaps://directory.tern.example"}, Own: &plan.LDAP{Base: "dc=tern,dc=example"},
	}}
	text, err := bigplan.Text(p)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "large.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	x := newTerminal(t, d)
	_, code, _ := x.run("plan", "load", file, "--draft", "large")
	require.Equal(t, cli.ExitNot, code, "it is generated, and has findings")

	var size compiled.Size
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "plan", "size", "--draft", "large")), &size))
	require.Equal(t, 2000, size.Rules)
	require.Contains(t, x.did("plan", "size", "--draft", "large"), "501 destinations, 2000 rules, 200 expectations: about ")

	var whole proofs.Board
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "board", "--draft", "large")), &whole))
	require.Len(t, whole.Rows, whole.TotalRows)
	require.Greater(t, len(whole.Rows)*len(whole.Destinations), 100_000, "more than one answer has")
	bad := 0
	for _, row := range whole.Rows {
		for _, c := range row.Cells {
			if c.State == reach.CellMissing || c.State == reach.CellBreach {
				bad++
			}
		}
	}
	require.Equal(t, bad, whole.Troubles)
	part, err := client.Get[proofs.Board](t.Context(), d.Client, "/board?draft=large&row=190&rows=3&column=480&columns=4&soon=true")
	require.NoError(t, err)
	require.Equal(t, whole.Destinations[480:484], part.Destinations)
	for i, row := range part.Rows {
		require.Equal(t, whole.Rows[190+i].Cells[480:484], row.Cells)
	}

	// What takes long.
	tasks := func() (list []computing.Task) {
		require.NoError(t, json.Unmarshal([]byte(x.did("--json", "computing", "list")), &list))
		return list
	}
	type end struct {
		code int
		err  error
	}
	begin := func(ctx context.Context) <-chan end {
		out := make(chan end, 1)
		go func() {
			err := cli.New(io.Discard).Run(ctx, []string{"yl", "--access", x.access, "depends", "--draft", "large"})
			out <- end{cli.ExitCode(err), err}
		}()
		require.Eventually(t, func() bool { return len(tasks()) == 1 }, 10*time.Second, 10*time.Millisecond)
		return out
	}
	leaving, leave := context.WithCancel(t.Context())
	first := begin(leaving)
	require.Regexp(t, `what depends on each setting of draft large: \d+ of \d+`, x.did("computing", "list"))
	leave()
	require.Error(t, (<-first).err)
	require.Eventually(t, func() bool { return len(tasks()) == 0 }, 10*time.Second, 10*time.Millisecond)
	require.Contains(t, x.did("computing", "list"), "nothing is being worked out")

	second := begin(t.Context())
	require.Equal(t, []string{"admin"}, tasks()[0].Waiting)
	require.Contains(t, x.did("computing", "stop", strconv.Itoa(tasks()[0].ID)), "is ended")
	got := <-second
	require.Equal(t, cli.ExitRefused, got.code)
	require.ErrorContains(t, got.err, "admin stopped working this out")
	_, code, err = x.run("computing", "stop", "4711")
	require.Equal(t, cli.ExitRefused, code)
	require.ErrorContains(t, err, "nothing with number 4711")
}
