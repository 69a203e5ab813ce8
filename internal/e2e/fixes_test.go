package e2e

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
)

// typed has a command of a fix done, as it is written.
func (x terminal) typed(fix string) {
	x.t.Helper()
	_, command, ok := strings.Cut(fix, "yl ")
	require.True(x.t, ok, fix)
	x.did(strings.Fields(command)...)
}

// Putting a certificate in the place of one that is shown says beforehand whom that keeps out, and waits for being said again; status says
// so afterwards, with what mends it. The fix of a finding keeps what runs as it is.
func TestCertificateInUse(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	comesIn := func() error {
		tn, err := login(t, d, "rory.researcher")
		if err == nil {
			tn.Close()
		}
		return err
	}
	points := func() (out []standing.Point) {
		all, err := client.Get[[]standing.Point](t.Context(), d.Client, "/standing")
		require.NoError(t, err)
		for _, p := range all {
			if p.Name == "certificate" && p.State != standing.Right {
				out = append(out, p)
			}
		}
		return out
	}
	_, code, err := x.run("certificate", "make", "gate", "--for", "other.tern.example")
	require.Equal(t, cli.ExitRefused, code)
	require.ErrorContains(t, err, `both.birdwatcher, curt.contractor, rory.researcher, vera.volunteer, wanda.warden could not connect any more`)
	require.ErrorContains(t, err, `it does not hold "gate.tern.example"`)
	require.NoError(t, comesIn())
	require.Empty(t, points())

	x.did("certificate", "make", "gate", "--for", "gate.tern.example", "--for", "other.tern.example") // takes nothing from anybody
	require.NoError(t, comesIn())
	x.did("certificate", "make", "gate", "--for", "other.tern.example", "--replace")
	require.Error(t, comesIn())
	require.Len(t, points(), 1)
	p := points()[0]
	require.Equal(t, standing.Wrong, p.State)
	require.Contains(t, p.Words, "nobody can connect by tunnel main: certificate gate: it does not hold \"gate.tern.example\"")
	require.Equal(t, "tunnels/main/certificate", p.Setting)
	x.typed(p.Mend)
	require.Empty(t, points())
	require.NoError(t, comesIn())

	// A draft by which people dial another name: its finding is gone by the command that it offers, and what runs goes on.
	x.did("certificate", "make", "gate", "--for", "gate.tern.example")
	renamed := strings.Replace(d.Scenario.Plan, "dial: gate.tern.example", "dial: harbour.tern.example", 1)
	refused := func() (fix string) {
		var checked plans.Checked
		require.NoError(t, d.Client.Do(t.Context(), "POST", "/check", map[string]string{"text": renamed}, &checked))
		for _, f := range checked.Findings {
			if f.Code == "certificate-refused" {
				require.Equal(t, []string{"harbour.tern.example", "gate.tern.example"}, f.Do.For)
				fix = f.Fix
			}
		}
		return fix
	}
	x.typed(refused())
	require.Empty(t, refused())
	require.NoError(t, comesIn())
	require.Empty(t, points())

	// Kits are held against it too: no device that surely takes RSA alone comes in by a key on a curve.
	out, _, err := x.run("--json", "users", "kit", "rory.researcher", "--platform", "windows", "--out", t.TempDir())
	require.NoError(t, err, out)
	require.Contains(t, points()[0].Words, "rory.researcher cannot connect with the kits that they have: tunnel main: Windows 10 and 11 does not surely take")
}

// A warning that was accepted stays accepted through commits of other things, with whose reason and since when; once the object that it is
// about changes, it is asked about again.
func TestAcceptedStays(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	commit := func(text string, more ...string) error {
		x.did("plan", "load", write(t, text))
		_, _, err := x.run(append([]string{"plan", "commit", "-m", "next"}, more...)...)
		return err
	}
	passage := "  - {name: pilots, groups: [pilots], tunnels: [main], pool: guests, dns: {servers: [10.20.0.53], search: [tern.example]}, " +
		"routes: {split: [names]}, second-factor: {waived: they fly with gloves}}\n"
	nobody := strings.Replace(d.Scenario.Plan, "\nnat:\n", passage+"\nnat:\n", 1)
	nobody = strings.Replace(nobody, "\ngroups:\n", "\ngroups:\n  - {name: pilots}\n", 1)
	require.ErrorContains(t, commit(nobody), "nobody-admitted@passages/pilots/groups")
	require.NoError(t, commit(nobody, "--accept", "all", "--because", "they come in spring"))
	other := strings.Replace(nobody, "name: Tern Island Observatory", "name: Observatory of Tern Island", 1)
	x.did("plan", "load", write(t, other))
	require.Contains(t, squeezed(x.did("plan", "review")), "accepted with revision 2, and nothing of it changed since: nobody-admitted@passages/pilots/groups (they come in spring)")
	require.NoError(t, commit(other))
	require.NoError(t, commit(nobody), "and through the next")
	rs, err := client.Get[[]plans.Revision](t.Context(), d.Client, "/revisions")
	require.NoError(t, err)
	i := slices.IndexFunc(rs[0].Accepted, func(a plans.Acceptance) bool { return a.Finding == "nobody-admitted@passages/pilots/groups" })
	require.GreaterOrEqual(t, i, 0)
	require.Equal(t, []any{2, "they come in spring"}, []any{rs[0].Accepted[i].Revision, rs[0].Accepted[i].Reason})
	changed := strings.Replace(nobody, "they fly with gloves", "they fly without phones", 1)
	require.ErrorContains(t, commit(changed), "nobody-admitted@passages/pilots/groups", "its object changed")
}

// A fix that is a command works as it is written, with FILE and the like put in, and its finding is gone afterwards, as are those that it
// followed from; what runs goes on.
func TestFixesAsTyped(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	source := "\npassages:\n"
	ldap := "\nsources:\n  - {name: mainland, kind: ldap, servers: [\"ldaps://directory.tern.example\"], base: \"dc=x\", account: \"cn=x\", secret: account}\n"
	radius := "\nsources:\n  - {name: harbour, kind: radius, servers: [\"radius+tls://radius.tern.example\"], certificate: lantern}\n"
	equipment := "\nequipment-at: 127.0.0.1\nequipment:\n  - {name: jetty, secret: switches, certificate: gate, addresses: [127.0.0.1/32], groups: [researchers]}\n"
	mail := "\nmail-server: smtps://mail.tern.example\nmail-from: gateway@tern.example\nmail-account: gateway\nmail-secret: mail\n"
	of := func(more string) []string { return []string{source, more + source} }
	for _, c := range []struct {
		code   string
		change []string
		put    []string // in place of words of the command
	}{
		{"no-certificate", []string{"    certificate: gate\n", "    certificate: other\n"}, nil},
		{"no-certificate", []string{"    certificate: gate\n", "    certificate: gate\n    second-certificate: second\n"}, nil},
		{"certificate-refused", []string{"dial: gate.tern.example", "dial: harbour.tern.example"}, nil},
		{"certificates-alike", []string{"    certificate: gate\n", "    certificate: gate\n    second-certificate: other\n"}, nil},
		{"code-page-certificate", []string{
			"    internet: true\n", "    internet: true\n    code-page: {name: code.tern.example, addresses: [10.99.255.1], certificate: gate}\n",
		}, nil},
		{"kits-certificate", []string{"\npassages:\n", "\nkits-at: https://kits.tern.example\nkits-certificate: gate\n\npassages:\n"}, nil},
		{"no-secret", of(ldap), nil},
		{"no-certificate", of(radius), nil},
		{"no-secret", of(equipment), nil},
		{"no-secret", of(mail), nil},
		{"no-secret", []string{"    outside:\n", "    outside:\n      update: {server: \"192.0.2.53:53\", zone: tern.example, key: jetty-update}\n"}, nil},
		{"approval-by-nobody", of("\napprove-commits: true\n"), []string{"NAME", "keeper"}},
		{"no-second-factor", []string{
			"    internet: true\n", codePage, "    second-factor: {waived: \"researchers are on the ice for months, without a phone\"}\n", "    second-factor: {asked: true}\n",
		}, nil},
		{"secret-sent-elsewhere", of(strings.Replace(ldap, "secret: account", "secret: shared", 1)), nil},
	} {
		if c.code == "secret-sent-elsewhere" {
			other, _ := hire(t, d, x, "other", "administrator")
			other.did("secret", "keep", "shared", "--kind", "password", "--from-file", write(t, "a secret of another administrator's"))
		}
		text := d.Scenario.Plan
		for i := 0; i < len(c.change); i += 2 {
			require.Contains(t, text, c.change[i], c.code)
			text = strings.Replace(text, c.change[i], c.change[i+1], 1)
		}
		found := func() (ids []string, fix string) {
			var checked plans.Checked
			require.NoError(t, d.Client.Do(t.Context(), "POST", "/check", map[string]string{"text": text}, &checked))
			require.Empty(t, checked.Faults, c.code)
			for _, f := range checked.Findings {
				ids = append(ids, f.ID())
				if f.Code == c.code {
					fix = f.Fix
				}
			}
			return ids, fix
		}
		before, fix := found()
		require.NotEmpty(t, fix, "%s: %v", c.code, before)
		file := "a secret of sixteen octets or more"
		if strings.Contains(fix, "jetty-update") {
			file = "c2l4dGVlbiBvY3RldHMgb3IgbW9yZQ=="
		}
		words := strings.NewReplacer(append(c.put, "FILE", write(t, file))...).Replace(fix)
		_, command, ok := strings.Cut(words, "yl ")
		require.True(t, ok, "%s: %s", c.code, fix)
		command, _, _ = strings.Cut(strings.NewReplacer(")", ",", ";", ",", " and so on", ",").Replace(command), ",")
		if c.code == "no-second-factor" { // somebody gets one by the link
			enrol(t, d, x, "rory.researcher")
			enrol(t, d, x, "both.birdwatcher")
		}
		x.did(strings.Fields(command)...)
		after, again := found()
		require.Empty(t, again, "%s is gone by %q", c.code, command)
		require.Subset(t, before, after, "%s: nothing else came of %q", c.code, command)
		tn, err := login(t, d, "rory.researcher")
		require.NoError(t, err, "%s: what runs goes on after %q", c.code, command)
		tn.Close()
	}
}

// Whatever somebody changes, the journal names the object, also where the call has its name in its body alone.
func TestChangesNameTheirObject(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	x.did("users", "add", "petra.pilot", "--group", "volunteers", "--make-password")
	hire(t, d, x, "hanna.helpdesk", "help-desk")
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/tokens", map[string]any{"name": "nightly"}, nil))
	x.did("secret", "make", "s1")
	tn, err := login(t, d, "rory.researcher")
	require.NoError(t, err)
	defer tn.Close()
	x.did("sessions", "end", "rory.researcher")
	x.did("certificate", "make", "other", "--for", "other.tern.example")
	var lines []struct {
		User   string
		Reason struct {
			With map[string]string
		}
		With map[string]string
	}
	out := x.did("--json", "journal", "--kind", "change", "--limit", "100")
	require.NoError(t, json.Unmarshal([]byte(out), &lines), out)
	require.Greater(t, len(lines), 6)
	what := map[string]bool{}
	for _, l := range lines {
		with := l.With
		if with == nil {
			with = l.Reason.With
		}
		require.NotEmpty(t, with["what"], "%+v", l)
		what[with["what"]] = true
	}
	for _, name := range []string{"petra.pilot", "hanna.helpdesk", "nightly", "s1", "other"} {
		require.True(t, what[name], "%s: %v", name, what)
	}
	require.Contains(t, squeezed(x.did("journal", "--user", "petra.pilot")), "Add a user (petra.pilot)")
}
