package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/probe"
)

// A tunnel that has passwords handed over inside TLS: right and wrong ones, and a first one that is to be changed elsewhere. Trials by it
// see what is computed, and a device that is asked for another method is refused in words.
func TestPasswordInsideTLS(t *testing.T) {
	d := island(t, nil)
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls")
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	x := newTerminal(t, d)
	out, _, err := x.run("probe", "--user", "rory.researcher", "--vantage", "home", "--password-file",
		write(t,
			d.Passwords["rory.researcher"]+"\n"))
	require.NoError(t, err, "the command line hands a password over too: %s", out)
	_, err = with(t, d, "rory.researcher", func(_ *probe.Order, o *probe.Options) { o.Password = "not this one, though" })
	require.Error(t, err)
	journaled(t, d, "refused", "wrong password")
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls\n    also-login: [eap-mschapv2]")
	kit, err := d.App.Handover.Make(t.Context(), "rory.researcher", "android", handover.Wants{})
	require.NoError(t, err, "a device without EAP-TTLS comes in by the other method")
	require.NotEmpty(t, kit.Steps)
	x.did("plan", "set", "tunnels/main/login", "eap-tls")
	x.did("plan", "set", "tunnels/main/also-login", "[]")
	x.did("plan", "commit", "-m", "certificates inside EAP", "--accept", "all", "--because", "keys follow")
	_, err = with(t, d, "rory.researcher", nil)
	require.Error(t, err, "a password is nobody's way in there")
	out, _, err = x.run("validate", "--try", "--vantage", "home")
	require.NoError(t, err, "identities of trials come in all the same: %s", out)
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls\n    also-login: [eap-mschapv2]")
	x.did("slowed", "lift")
	out, _, err = x.run("validate", "--try", "--vantage", "home")
	require.NoError(t, err, out)
}
