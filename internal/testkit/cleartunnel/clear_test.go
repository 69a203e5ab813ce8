package cleartunnel

import (
	"encoding/json"
	"io"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
)

// A second kind of tunnel carries a session through plan, gateway, forwarding, the list of sessions, the journal and the probe, with
// nothing changed outside its package but that it is registered.
func TestSecondKind(t *testing.T) {
	Register()
	d, err := tour.Prepare(t.Context(), "", instance.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	for from, to := range map[string]string{
		"\npassages:\n": "\n  - {name: bare, kind: clear, gateway: jetty, login: eap-mschapv2, certificate: gate, mtu: 1320, identity: bare.tern.example, largest: 1320}\n\npassages:\n",
		"groups: [researchers]\n    tunnels: [main]": "groups: [researchers]\n    tunnels: [bare, main]",
	} {
		require.Equal(t, 1, strings.Count(d.Scenario.Plan, from), from)
		d.Scenario.Plan = strings.Replace(d.Scenario.Plan, from, to, 1)
	}
	_, err = d.App.Trust.Make(t.Context(), "gate", "gate.tern.example", "bare.tern.example")
	require.NoError(t, err)
	_, _, err = d.Commit(t.Context())
	require.NoError(t, err)

	settings(t, d)

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

// Its own settings are read, held to their types, found wrong, mended, compared, drawn as a form and described like those of every other
// kind.
func settings(t *testing.T, d *tour.Demo) {
	check := func(from, to string) plans.Checked {
		require.Contains(t, d.Scenario.Plan, from)
		var out plans.Checked
		text := strings.Replace(d.Scenario.Plan, from, to, 1)
		require.NoError(t, d.Client.Do(t.Context(), "POST", "/check", map[string]any{"text": text}, &out))
		return out
	}
	for _, c := range []struct{ to, path, problem string }{
		{"largest: many", "tunnels/bare/largest", `"many" will not do`},
		{"largest: 1320, tcp-port: 443", "tunnels/bare", `field "tcp-port" is a setting of tunnels of kind ikev2`},
	} {
		faults := check("largest: 1320", c.to).Faults
		require.Len(t, faults, 1)
		require.Equal(t, c.path+": "+c.problem, faults[0].Path+": "+faults[0].Problem)
	}
	faults := check("    kind: ikev2\n", "    kind: ikev2\n    largest: 1320\n").Faults
	require.Len(t, faults, 1)
	require.Contains(t, faults[0].Problem, "a setting of tunnels of kind clear")

	found := check("largest: 1320", "largest: 20").Findings
	require.Equal(t, "clear-largest@tunnels/bare/largest", found[0].ID())
	text := strings.Replace(d.Scenario.Plan, "largest: 1320", "largest: 20", 1)
	mended, err := plan.Apply(text, found[0].Mend...)
	require.NoError(t, err)
	doc, err := plan.Read(mended)
	require.NoError(t, err)
	i := slices.IndexFunc(doc.Plan.Tunnels, func(t plan.Tunnel) bool { return t.Name == "bare" })
	require.Equal(t, &Options{Largest: 1200}, doc.Plan.Tunnels[i].Own)

	before, err := plan.Read(d.Scenario.Plan)
	require.NoError(t, err)
	changes := plan.Difference(before.Plan, doc.Plan)
	require.Len(t, changes, 1)
	require.Equal(t, "change tunnels/bare/largest from 1320 to 1200", changes[0].String())
	b, err := json.Marshal(doc.Plan)
	require.NoError(t, err)
	var again plan.Plan
	require.NoError(t, json.Unmarshal(b, &again))
	require.Empty(t, plan.Difference(doc.Plan, again), "as JSON, there and back")

	forms, err := client.Get[[]plan.Form](t.Context(), d.Client, "/forms")
	require.NoError(t, err)
	for _, f := range forms {
		for _, x := range f.Fields {
			if x.Name == "largest" {
				require.Equal(t, "tunnels", f.Kind)
				require.Equal(t, []string{Name}, x.Of)
			}
		}
	}
	require.Contains(t, plan.Reference(), "| `largest` | Largest packet that is taken, in octets; any if not given. *What is larger is lost.* *number* | of kind clear |")
}
