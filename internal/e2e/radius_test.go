package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/probe"
	"yellowlantern/internal/testkit/radiusserver"
	"yellowlantern/internal/tour"
)

// judged is Tern Island with a RADIUS server that judges logins of people whom it does not have itself, by a way of logging in.
func judged(t *testing.T, s *radiusserver.Server, login, more string) (*tour.Demo, terminal) {
	d := island(t, nil)
	x := newTerminal(t, d)
	x.did("secret", "keep", "mainland", "--kind", "password", "--from-file", write(t, radiusserver.Secret+"\n"))
	object := fmt.Sprintf("sources:\n  - name: mainland\n    kind: radius\n    servers: [%q]\n    secret: mainland\n    timeout: 3s\n%s\npassages:\n",
		s.UDP, more)
	recommit(t, d, "login: eap-mschapv2", "login: "+login, "\npassages:\n", "\n"+object)
	return d, x
}

// as is somebody of the server's, by the kit of somebody else: who they are nobody knows before they came.
func as(user, password string) func(*probe.Order, *probe.Options) {
	return func(r *probe.Order, o *probe.Options) { r.User, o.Password = user, password }
}

// People whom a RADIUS server vouches for come in by each way of logging in that it judges, beside the service's own; their address and
// limits are those that it gives.
func TestRADIUS(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	for _, login := range []string{"eap-mschapv2", "eap-ttls", "eap-relayed\n    also-login: [eap-mschapv2]"} {
		t.Run(strings.Fields(login)[0], func(t *testing.T) {
			t.Parallel()
			d, x := judged(t, s, login, "")
			tn, err := with(t, d, "rory.researcher", as("dora", radiusserver.Password))
			require.NoError(t, err)
			require.NoError(t, ping(t, tn, "10.20.30.5"))
			require.Contains(t, x.did("people", "list"), "mainland")
			require.Contains(t, x.did("people", "explain", "dora"), "research")
			_, err = with(t, d, "rory.researcher", nil)
			require.NoError(t, err, "the service's own people come in by the same tunnel")
			_, err = with(t, d, "rory.researcher", as("dora", "wrong"))
			require.Error(t, err)
			journaled(t, d, "refused", "source mainland refuses them")
			_, err = with(t, d, "rory.researcher", as("wanda.warden", radiusserver.Password))
			require.Error(t, err, "a name of the service's own is nobody's there")
			x.did("slowed", "lift")

			recommit(t, d, "login: eap-mschapv2", "login: eap-ttls")
			_, err = with(t, d, "rory.researcher", as("dora", radiusserver.Password))
			require.Error(t, err, "the plan has no source any more")
		})
	}
}

// What the server says of a session holds: its address, how long it lasts. An address that cannot be had is told as such.
func TestRADIUSLimits(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	d, x := judged(t, s, "eap-mschapv2", "")
	tn, err := with(t, d, "rory.researcher", as("bound", radiusserver.Password))
	require.NoError(t, err)
	require.Equal(t, "10.99.0.77", tn.Address4().String())
	_, err = with(t, d, "rory.researcher", as("bound", radiusserver.Password))
	require.Error(t, err)
	journaled(t, d, "refused", "which is leased to another session")
	require.Contains(t, x.did("people", "explain", "bound"), "10.99.0.77")
}

// told waits until the server was told of a session's beginning, state or end with some words, and gives what it was told.
func told(t *testing.T, s *radiusserver.Server, words ...string) (out string) {
	t.Helper()
	require.Eventually(t, func() bool {
		out = s.Told()
		for _, w := range words {
			if !strings.Contains(out, w) {
				return false
			}
		}
		return true
	}, 20*time.Second, 50*time.Millisecond, "%v in %s", words, out)
	return out
}

// Servers are told of the sessions of their people, with what they wanted to hear again, and of nobody else's; what could not be told is
// told once they are there again.
func TestRADIUSAccounting(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	d, x := judged(t, s, "eap-mschapv2", fmt.Sprintf("    accounting: [%q]\n", s.Accounting))
	tn, err := with(t, d, "rory.researcher", as("bound", radiusserver.Password))
	require.NoError(t, err)
	_, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	out := told(t, s, "Acct-Status-Type = Start", "Framed-IP-Address = 10.99.0.77", "Class = 0x00ff10", `User-Name = "bound"`)
	require.NotContains(t, out, "rory", "of the service's own people they are told nothing")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	s.Stop()
	tn.Close()
	require.Eventually(t, func() bool {
		said, _, _ := x.run("status")
		return strings.Contains(said, "servers of mainland are not told of sessions, 1 wait")
	}, 20*time.Second, 200*time.Millisecond)
	s.Run()
	out = told(t, s, "Acct-Status-Type = Stop", "Acct-Terminate-Cause = User-Request")
	require.Regexp(t, `Acct-Input-Packets = [1-9]`, out)
	require.Regexp(t, `Acct-Output-Octets = [1-9]`, out)
	require.Equal(t, 1, strings.Count(out, "Acct-Status-Type = Start"))
	require.Equal(t, 1, strings.Count(out, "Acct-Status-Type = Stop"))
}
