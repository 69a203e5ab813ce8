package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
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
	// A kit of a version that did not sign can be changed, one that is signed cannot.
	require.NoError(t, os.WriteFile(kit, bytes.Replace(text, []byte("gate.tern.example"), []byte("127.0.0.1"), 1), 0o600))
	_, code, err := x.run("probe", "--kit", kit, "--password-file", write(t, d.Passwords["rory.researcher"]))
	require.Equal(t, cli.ExitUsage, code)
	require.ErrorContains(t, err, "somebody changed it")
	unsigned, _, _ := strings.Cut(string(text), "-----BEGIN CMS")
	broken := strings.NewReplacer("gate.tern.example", "127.0.0.1", `"format": 3`, `"format": 2`).Replace(unsigned)
	require.NoError(t, os.WriteFile(kit, []byte(broken), 0o600))
	for _, by := range []string{"--signed-by=" + strings.Repeat("00:", 31) + "00", ""} {
		if by == "" {
			require.NoError(t, os.WriteFile(kit+".signer", []byte(strings.Repeat("00", 32)), 0o600))
		}
		args := []string{"probe", "--kit", kit, "--password-file", write(t, d.Passwords["rory.researcher"])}
		_, code, err = x.run(append(args, strings.Fields(by)...)...)
		require.Equal(t, cli.ExitRefused, code, "%v", err)
		require.ErrorContains(t, err, "not signed")
		require.NoError(t, os.WriteFile(kit, text, 0o600))
		_, code, err = x.run(append(args, strings.Fields(by)...)...)
		require.Equal(t, cli.ExitRefused, code)
		require.ErrorContains(t, err, "another authority")
		require.NoError(t, os.WriteFile(kit, []byte(broken), 0o600))
	}
	require.NoError(t, os.Remove(kit+".signer"))
	x.access = filepath.Join(t.TempDir(), "nowhere.json")
	_, code, err = x.run("probe", "--kit", kit, "--password-file", write(t, d.Passwords["rory.researcher"]), "--report", report)
	require.Equal(t, cli.ExitNot, code, "%v", err)
	x = newTerminal(t, d)
	out, _, err := x.run("probe", "hand-in", report)
	require.NoError(t, err)
	require.Contains(t, out, "rory.researcher from this machine's network, revision 1")
	for name, bad := range map[string]string{
		"no kit": "{}", "other format": strings.Replace(broken, `"format": 2`, `"format": 7`, 1),
		"unknown": strings.Replace(broken, `"format": 2`, `"format": 2, "more": 2`, 1), "more": broken + "{}",
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
	journaled(t, d, "change", "handed in a report of a probe at this machine's network on revision 1")
	reports, err := client.Get[[]probe.Report](t.Context(), d.Client, "/probes")
	require.NoError(t, err)
	require.True(t, reports[0].Handed)
}

// Reports that somebody made up make nothing green: whoever hands them in, each says that everything is as expected, and what was tried is
// still nothing. They are shown apart, with who handed them in.
func TestForgedReports(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	before := x.did("validate")
	require.Contains(t, before, "Nothing was tried on this revision yet")
	hanna, _ := hire(t, d, x, "hanna.helpdesk", "help-desk")
	classes := 0
	var forged probe.Report
	for user := range d.Passwords {
		o, err := client.Get[probe.Order](t.Context(), d.Client, "/probes/order?user="+user)
		if err != nil { // may not come in
			continue
		}
		forged = probe.Report{
			At: time.Now(), User: user, Class: o.Class, Vantage: "home", Passage: o.Passage, Revision: 1, Connected: true, OK: true,
			Login: "logged in", Results: []probe.Result{}, Checks: []probe.Check{}, Dialled: []netip.Addr{}, Causes: []string{},
		}
		for _, trial := range o.Trials {
			seen := probe.Seen{Reached: trial.Want, Served: trial.Want}
			forged.Results = append(forged.Results, probe.Result{Trial: trial, OK: true, Seen: seen})
		}
		b, err := json.Marshal(forged)
		require.NoError(t, err)
		_, _, err = hanna.run("probe", "hand-in", write(t, string(b)))
		require.NoError(t, err)
		classes++
	}
	require.Greater(t, classes, 3)
	after := x.did("validate")
	require.Contains(t, after, "Nothing was tried on this revision yet", "forged reports count nowhere")
	require.Contains(t, after, "handed in by hanna.helpdesk")
	require.Contains(t, squeezed(after), "nothing vouches for it, and it does not count as tried")
	board, err := client.Get[proofs.Board](t.Context(), d.Client, "/board")
	require.NoError(t, err)
	apart := 0
	for _, row := range board.Tried {
		for _, cell := range row {
			require.Equal(t, "not tried", cell.State)
			if cell.Handed != "" {
				require.Contains(t, cell.Handed, "hanna.helpdesk handed in a report")
				apart++
			}
		}
	}
	require.Positive(t, apart)
	require.NotEmpty(t, board.Verdict.Untried)
	journaled(t, d, "change", "hanna.helpdesk, by token command line from 127.0.0.1, handed in a report of a probe at home")
	var access cli.Access
	require.NoError(t, json.Unmarshal(must(os.ReadFile(hanna.access)), &access))
	hannas := client.Client{URL: access.URL, Token: access.Token, HTTP: http.DefaultClient}
	refused, begun := 0, time.Now()
	for range 80 {
		var no *client.Error
		if err := hannas.Do(t.Context(), "POST", "/probes", forged, nil); errors.As(err, &no) {
			require.Equal(t, 429, no.Status, "%v", err)
			refused++
		}
	}
	again := int(time.Since(begun)/(10*time.Second)) + 3 // as many as came to be allowed since the first
	require.InDelta(t, 80-60+classes, refused, float64(again))
	page := filepath.Join(t.TempDir(), "page.html")
	_, _, _ = x.run("validate", "--format", "html", "--out", page)
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Contains(t, string(text), "Nothing vouches for these reports")
}
