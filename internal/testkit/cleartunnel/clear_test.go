package cleartunnel

import (
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
)

// A second kind of tunnel carries a session through plan, gateway, forwarding, the list of sessions, the journal and the probe, with
// nothing
// changed outside its package but that it is registered.
func TestSecondKind(t *testing.T) {
	Register()
	d, err := tour.Prepare(t.Context(), "", instance.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	for from, to := range map[string]string{
		"\npassages:\n": "\n  - {name: bare, kind: clear, gateway: jetty, login: eap-mschapv2, certificate: gate, mtu: 1320, identity: bare.tern.example}\n\npassages:\n",
		"groups: [researchers]\n    tunnels: [main]": "groups: [researchers]\n    tunnels: [bare, main]",
	} {
		require.Equal(t, 1, strings.Count(d.Scenario.Plan, from), from)
		d.Scenario.Plan = strings.Replace(d.Scenario.Plan, from, to, 1)
	}
	_, err = d.App.Trust.Make(t.Context(), "gate", "gate.tern.example", "bare.tern.example")
	require.NoError(t, err)
	_, _, err = d.Commit(t.Context())
	require.NoError(t, err)

	const user = "rory.researcher"
	order, err := client.Get[probe.Order](t.Context(), d.Client, "/probes/order?user="+user)
	require.NoError(t, err)
	require.Equal(t, Name, order.Kind)
	at, err := underlay.Vantage(t.Context(), d.Lab.Vantages()[0].Link)
	require.NoError(t, err)
	defer at.Close()

	_, err = probe.Open(t.Context(), at, order, probe.Options{Password: "not the password"})
	require.Error(t, err)
	report, err := probe.Run(t.Context(), at, order, probe.Options{Password: ""})
	require.NoError(t, err)
	require.Equal(t, reason.FaultRefused, report.Fault)
	_ = d.Client.Do(t.Context(), "DELETE", "/slowed?name="+user, nil, nil)

	report, err = probe.Run(t.Context(), at, order, probe.Options{Password: d.Passwords[user]})
	require.NoError(t, err)
	require.True(t, report.OK, "%v", report.Causes)
	require.NotZero(t, report.Tried())

	tunnel, err := probe.Open(t.Context(), at, order, probe.Options{Password: d.Passwords[user]})
	require.NoError(t, err)
	defer tunnel.Close()
	sessions, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	require.Len(t, sessions, 1)
	require.Equal(t, []string{Name, "bare", "jetty", user},
		[]string{sessions[0].Kind, sessions[0].Tunnel, sessions[0].Gateway, sessions[0].User})
	require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/sessions?user="+user, nil, nil))
	require.Eventually(t, func() bool { return tunnel.Ended() != nil }, 2*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool {
		lines, err := client.Get[[]gateway.Event](t.Context(), d.Client, client.Query("/journal", "code", string(reason.EndedBy)))
		return err == nil && len(lines) == 1 && lines[0].With[reason.Tunnel] == "bare"
	}, 2*time.Second, 20*time.Millisecond)
}
