package e2e

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
)

// A pool that is carved from the network that the gateway is attached to: hosts there, and behind the routers there, find people without a
// route, for the gateway answers for them, as long as they have the address and no longer. The proof and the trial agree.
func TestCarvedPool(t *testing.T) {
	d, err := tour.Prepare(t.Context(), "", options(t))
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	const pool = `{name: staff, prefixes: [10.99.0.0/24, "fd00:99::/112"]}`
	require.Contains(t, d.Scenario.Plan, pool)
	d.Scenario.Plan = strings.Replace(d.Scenario.Plan, pool,
		`{name: staff, prefixes: [10.20.0.128/25, "fd00:20::9:0/112"], carved-from: station}`, 1)
	findings, _, err := d.Commit(t.Context())
	require.NoError(t, err, "%v", findings)
	proof, err := client.Get[proofs.Proof](t.Context(), d.Client, "/proof")
	require.NoError(t, err)
	require.Zero(t, proof.Failed, "%+v", proof.Results)

	report, err := probe.Run(t.Context(), home(t, d), order(t, d, "rory.researcher"),
		probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	require.True(t, report.OK, "%v", report.Causes)

	tn := connect(t, d, "wanda.warden")
	carved := netip.MustParsePrefix("10.20.0.128/25")
	require.True(t, carved.Contains(tn.Address4()), "%s", tn.Address4())
	require.NoError(t, ping(t, tn, "10.20.0.20"), "a neighbour on the same network")
	require.NoError(t, ping(t, tn, "10.20.30.5"), "behind a router there")
	status, err := client.Get[running.Status](t.Context(), d.Client, "/status")
	require.NoError(t, err)
	require.Equal(t, "site-lab", status.Inside.Port)
	require.Empty(t, status.Inside.Problems)

	// A commit keeps what is answered for; the end of the session ends it.
	recommit(t, d, "services: [web, files, ping]", "services: [web, ping]")
	require.NoError(t, ping(t, tn, "10.20.0.20"), "after a commit")
	at := tn.Address4()
	tn.Close()
	require.Eventually(t, func() bool {
		ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
		return err == nil && len(ss) == 0
	}, 20*time.Second, 20*time.Millisecond)
	require.False(t, d.Lab.Answers(at), "nobody answers for an address that nobody has")
}
