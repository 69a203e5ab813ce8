package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/client"
)

// Where a tunnel wants a key of whatever kind in place of a password, or one to mix in beside it, every class is tried with an
// identity that has one.
func TestTrialsByKey(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	_, _, err := x.run("plan", "set", "tunnels/main/mixed-in-key", "demand")
	require.NoError(t, err)
	for _, login := range []string{"public-key", "certificate", "pre-shared-key", "certificate-and-eap-mschapv2"} {
		_, _, err := x.run("plan", "set", "tunnels/main/login", login)
		require.NoError(t, err)
		_, _, err = x.run("plan", "commit", "-m", login, "--accept", "all", "--because", "nobody has a key yet")
		require.NoError(t, err)
		_, _, err = x.run("probe", "--everyone", "--vantage", "home")
		require.NoError(t, err)
		r, err := client.Get[trials.Round](t.Context(), d.Client, "/rounds/0")
		require.NoError(t, err)
		require.Len(t, r.Results, 5)
		for _, got := range r.Results {
			require.True(t, got.OK && got.Connected, "%+v", got)
		}
		_, _, err = x.run("probe", "--user", "rory.researcher", "--vantage", "home")
		require.ErrorContains(t, err, "wants a key that you share")
	}
}

// A gateway has certificates of two kinds of keys for one name; either can be the preferred one, and people connect by both.
func TestTwoCertificates(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	for _, words := range [][]string{
		{"certificate", "make", "gate-rsa", "--for", "gate.tern.example", "--key-kind", "rsa"},
		{"plan", "set", "tunnels/main/certificate", "gate-rsa"},
		{"plan", "set", "tunnels/main/second-certificate", "gate"},
		{"plan", "commit", "-m", "two certificates", "--accept", "all", "--because", "a test"},
		{"probe", "--user", "rory.researcher", "--vantage", "home", "--password-file", write(t, d.Passwords["rory.researcher"])},
	} {
		_, _, err := x.run(words...)
		require.NoError(t, err, words)
	}
	out, _, err := x.run("certificate", "list")
	require.NoError(t, err)
	require.Regexp(t, `gate-rsa +rsa +gate.tern.example.* main`, out)
	require.Regexp(t, `gate +ecdsa +gate.tern.example.* main`, out)
	_, _, err = x.run("certificate", "remove", "gate")
	require.Error(t, err, "it is shown")
	_, _, err = x.run("certificate", "make", "gate", "--for", "gate.tern.example", "--key-kind", "dsa")
	require.Error(t, err)
}
