package e2e

import (
	"fmt"
	"strings"
	"testing"

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
