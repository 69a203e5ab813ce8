package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/commits"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Everybody is tried from everywhere, each by an identity of their own, of which nothing is left; what one place hides is told for that
// place.
func TestRounds(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	people, err := d.People.List(t.Context())
	require.NoError(t, err)
	out, code, err := x.run("--json", "probe", "--everyone", "--vantage", "every")
	require.Equal(t, cli.ExitNot, code, "%s %v", out, err)
	r, err := client.Get[trials.Round](t.Context(), d.Client, "/rounds/0")
	require.NoError(t, err)
	require.Equal(t, 5*5, len(r.Results))
	require.Contains(t, out, fmt.Sprintf(`"id": %d`, r.ID))
	for _, got := range r.Results {
		hidden := got.Vantage == "twin" && slices.Contains([]string{"researchers", "researchers + volunteers"}, got.Class)
		require.Equal(t, !hidden, got.OK, "%+v", got)
		require.True(t, got.Connected, "%+v", got)
		require.Equal(t, map[bool]string{true: "TCP", false: "UDP"}[got.Vantage == "hotel"], got.Over)
		require.Zero(t, got.Differs, "%+v", got)
		if hidden {
			require.Len(t, got.Causes, 1, "%v", got.Causes)
			require.Contains(t, got.Causes[0], "10.20.30.0/24, hides archive")
		}
	}
	after, err := d.People.List(t.Context())
	require.NoError(t, err)
	require.Equal(t, people, after, "no identity is left")
	live, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	require.Empty(t, live)
	out, _, _ = x.run("journal", "--kind", "reach")
	require.NotContains(t, out, "no longer")

	// What nobody expects any more is no loss.
	recommit(t, d, "{name: archive, action: permit,", "{name: archive, off: true, action: permit,", "{name: researchers-read-the-archive,",
		"{name: researchers-read-the-archive, off: true,",
		"expectations:\n", "expectations:\n  - {name: names-by-name, groups: [researchers], must: reach, to: [names], services: [ping], by-name: true}\n")
	_, code, err = x.run("probe", "--everyone")
	require.NoError(t, err)
	require.Zero(t, code)
	out, _, _ = x.run("journal", "--kind", "reach")
	require.NotContains(t, out, "no longer")
	require.NoError(t, d.Store.SetPassword(t.Context(), "rory.researcher", store.NewPassword{
		Text:      "nothing to do with it",
		Challenge: true,
	}),
		"identities of trials are nobody's")
	out, _, _ = x.run("probe", "rounds")
	require.Contains(t, out, "all as expected")
	out, _, _ = x.run("probe", "schedule")
	require.Contains(t, out, "nobody is tried by itself")
	_, code, _ = x.run("probe", "schedule", "--every", "10s")
	require.Equal(t, cli.ExitRefused, code)
	out, _, err = x.run("probe", "schedule", "--every", "6h", "--vantage", "home,hotel")
	require.NoError(t, err)
	require.Contains(t, out, "every 6h0m0s from home, hotel")
	before, err := client.Get[trials.Round](t.Context(), d.Client, "/rounds/0")
	require.NoError(t, err)
	require.NoError(t, d.Store.SetSchedule(t.Context(), store.Schedule{Every: time.Second, Vantages: "home", By: "admin"}))
	require.Eventually(t, func() bool { // the service looks every ten seconds whether one is due
		now, err := client.Get[trials.Round](t.Context(), d.Client, "/rounds/0")
		return err == nil && now.ID > before.ID && now.By == "the schedule of admin" && now.State == trials.RoundDone && now.OK
	}, 25*time.Second, 200*time.Millisecond)
}

// A commit on trial that breaks what held goes back by itself and says why; one that does not is kept. The mistake is the plan's
// belief about a router: proof and findings see nothing wrong with it.
func TestCommitOnTrial(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	bad := strings.Replace(d.Scenario.Plan, "{to: 10.20.30.0/24, via: 10.20.0.2}", "{to: 10.20.30.0/24, via: 10.20.0.3}", 1)
	bad = strings.Replace(bad, "addresses: [10.20.0.2, \"fd00:20::2\",", "addresses: [10.20.0.2, 10.20.0.3, \"fd00:20::2\",", 1)
	_, code, err := x.run("plan", "load", write(t, bad))
	require.NoError(t, err)
	require.Zero(t, code)
	out, code, err := x.run("plan", "commit", "-m", "a new address of the ridge", "--trial")
	require.Equal(t, cli.ExitNot, code, out)
	require.ErrorContains(t, err, "went back to revision 1 by itself from revision 2")
	require.ErrorContains(t, err, "researchers-read-the-archive for researchers from home")
	now, err := client.Get[plans.Revision](t.Context(), d.Client, "/revisions/0")
	require.NoError(t, err)
	require.Equal(t, 3, now.Number)
	require.Equal(t, d.Scenario.Plan, now.Text)
	tn := connect(t, d, "rory.researcher")
	require.NoError(t, ping(t, tn, "10.20.30.5"))

	good := strings.Replace(d.Scenario.Plan, "note: watch the nest cameras", "note: watch the nests", 1)
	_, _, err = x.run("plan", "load", write(t, good))
	require.NoError(t, err)
	out, code, err = x.run("plan", "commit", "-m", "words", "--trial")
	require.NoError(t, err)
	require.Zero(t, code)
	require.Contains(t, out, "is kept: nothing fails that held before")
	trial, err := client.Get[commits.Trial](t.Context(), d.Client, "/trial")
	require.NoError(t, err)
	require.Zero(t, trial.Revision)
}

// A kit lets a machine without access probe; it holds nothing secret, and its report is handed in and seen on the board.
func TestProbeKit(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	kit, report := filepath.Join(t.TempDir(), "kit.json"), filepath.Join(t.TempDir(), "report.json")
	_, _, err := x.run("probe", "kit", "--user", "rory.researcher", kit)
	require.NoError(t, err)
	text, err := os.ReadFile(kit)
	require.NoError(t, err)
	require.NotContains(t, string(text), d.Passwords["rory.researcher"])
	require.NotContains(t, string(text), d.Client.Token)

	// On this machine's own network the documentation's addresses lead nowhere: the report says so, and is handed in all the same.
	broken := strings.Replace(string(text), "gate.tern.example", "127.0.0.1", 1)
	require.NoError(t, os.WriteFile(kit, []byte(broken), 0o600))
	x.access = filepath.Join(t.TempDir(), "nowhere.json")
	_, code, err := x.run("probe", "--kit", kit, "--password-file", write(t, d.Passwords["rory.researcher"]), "--report", report)
	require.Equal(t, cli.ExitNot, code, "%v", err)
	x = newTerminal(t, d)
	out, _, err := x.run("probe", "hand-in", report)
	require.NoError(t, err)
	require.Contains(t, out, "rory.researcher from this machine's network, revision 1")
	for name, bad := range map[string]string{
		"no kit": "{}", "other format": strings.Replace(broken, `"format": 1`, `"format": 7`, 1),
		"unknown": strings.Replace(broken, `"format": 1`, `"format": 1, "more": 2`, 1), "more": broken + "{}",
	} {
		_, code, err := x.run("probe", "--kit", write(t, bad))
		require.Equal(t, cli.ExitUsage, code, "%s: %v", name, err)
	}
	text, err = os.ReadFile(report)
	require.NoError(t, err)
	out, code, err = x.run("probe", "hand-in", write(t, strings.Replace(string(text), `"vantage": "`, `"vantage": "\u001b[2J`, 1)))
	require.Equal(t, cli.ExitFine, code, "%v", err)
	require.Contains(t, out, `\u001b[2J`, "what comes from elsewhere is shown, and does nothing")
	require.NotContains(t, out, "\x1b")
	_, code, err = x.run("probe", "--user", "rory.researcher", "--everyone")
	require.Equal(t, cli.ExitUsage, code, "%v", err)

	// It is about somebody who exists, is marked, and takes the place of nothing that the service tried itself.
	_, _, err = x.run("probe", "hand-in", write(t, strings.Replace(string(text), `"user": "rory.researcher"`, `"user": "nobody.here"`, 1)))
	require.ErrorContains(t, err, "no active user of that name")
	_, code, err = x.run("probe", "--everyone", "--vantage", "home")
	require.Equal(t, cli.ExitFine, code, "%v", err)
	_, _, err = x.run("probe", "hand-in", report)
	require.NoError(t, err)
	board, err := client.Get[proofs.Board](t.Context(), d.Client, "/board?people=rory.researcher&to=records")
	require.NoError(t, err)
	require.Equal(t, "as expected", board.Tried[0][0].State, "%+v", board.Tried)
	require.NotContains(t, board.Tried[0][0].Words, "handed in")
	reports, err := client.Get[[]probe.Report](t.Context(), d.Client, "/probes")
	require.NoError(t, err)
	require.True(t, reports[0].Handed)
}
