package cleartunnel

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/people"
	"yellowlantern/internal/tour"
)

// silent is a path to a device that takes everything.
type silent struct{ at netip.AddrPort }

func (silent) Send(inside.Packet)      {}
func (silent) SendAll([]inside.Packet) {}
func (s silent) Where() session.Where  { return session.Where{Addr: s.at, Over: session.OverUDP} }
func (silent) Missing() uint64         { return 0 }

// BenchmarkManySessions has 10,000 sessions stand, and tells how long lists of them, metrics, a picture of the console's and a stop take.
func BenchmarkManySessions(b *testing.B) {
	n := 10_000
	if testing.Short() {
		n = 200
	}
	Register()
	d, err := tour.Prepare(b.Context(), "", instance.Options{
		Data: b.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light, Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(b, err)
	stopped := false
	b.Cleanup(func() {
		if !stopped {
			d.Stop()
		}
	})
	for from, to := range map[string]string{
		"\npassages:\n": "\n  - {name: bare, kind: clear, gateway: jetty, login: eap-mschapv2, certificate: gate, mtu: 1320, identity: bare.tern.example, largest: 1320}\n\npassages:\n",
		"groups: [researchers]\n    tunnels: [main]":  "groups: [researchers]\n    tunnels: [bare, main]",
		"prefixes: [10.99.0.0/24, \"fd00:99::/112\"]": "prefixes: [10.96.0.0/16, \"fd00:99::/112\"]",
	} {
		require.Equal(b, 1, strings.Count(d.Scenario.Plan, from), from)
		d.Scenario.Plan = strings.Replace(d.Scenario.Plan, from, to, 1)
	}
	_, err = d.App.Trust.Make(b.Context(), "gate", "gate.tern.example", "bare.tern.example")
	require.NoError(b, err)
	_, _, err = d.Commit(b.Context())
	require.NoError(b, err)
	for i := range n {
		u := people.User{Name: fmt.Sprintf("user%05d", i), Groups: []string{"researchers"}}
		require.NoError(b, d.App.Members.People.Add(b.Context(), u, "salt-harbour-plank"))
	}
	begun := time.Now()
	for i := range n {
		from := silent{netip.AddrPortFrom(netip.AddrFrom4([4]byte{203, 0, 113, byte(i)}), uint16(1024+i>>8))}
		x, grant := last.host.Admit(tunnel.Request{
			User: fmt.Sprintf("user%05d", i), Groups: []string{"researchers"}, Tunnel: "bare", Algorithms: "none", From: from.at,
		})
		require.NotNil(b, x, "%v", grant.Refusal)
		require.True(b, last.host.Up(x, from, grant.Addresses))
	}
	b.ReportMetric(float64(n)/time.Since(begun).Seconds(), "admissions/s")
	time.Sleep(5 * time.Second) // samples
	for path, unit := range map[string]string{
		"/sessions": "sessions", "/sessions?traffic=true": "sessions-with-traffic", "/metrics": "metrics", "/standing": "standing",
		"/status": "status",
	} {
		r, err := http.NewRequestWithContext(b.Context(), "GET", d.URL()+"/api/v1"+path, nil)
		require.NoError(b, err)
		r.Header.Set("Authorization", "Bearer "+d.Client.Token)
		begun := time.Now()
		answer, err := http.DefaultClient.Do(r)
		require.NoError(b, err)
		text, err := io.ReadAll(answer.Body)
		require.NoError(b, err)
		_ = answer.Body.Close()
		require.Equal(b, 200, answer.StatusCode, "%s: %.300s", path, text)
		b.ReportMetric(float64(time.Since(begun).Milliseconds()), "ms-"+unit)
		b.ReportMetric(float64(len(text))/1e6, "MB-"+unit)
	}
	begun = time.Now()
	d.Stop()
	stopped = true
	b.ReportMetric(time.Since(begun).Seconds(), "s-stop")
	b.ReportMetric(0, "ns/op")
}
