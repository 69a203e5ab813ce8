// Package e2e tries the whole on loopback: service, gateway, lab and probe as they run for a user.
package e2e

import (
	"context"
	"io"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
)

func options(t testing.TB) instance.Options {
	return instance.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	}
}

// island starts Tern Island with its plan committed.
func island(t *testing.T, change func(*instance.Options)) *tour.Demo {
	o := options(t)
	if change != nil {
		change(&o)
	}
	d, err := tour.Prepare(t.Context(), "", o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	_, number, err := d.Commit(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, number)
	return d
}

func order(t *testing.T, d *tour.Demo, user string) probe.Order {
	o, err := client.Get[probe.Order](t.Context(), d.Client, "/probes/order?user="+user)
	require.NoError(t, err)
	return o
}

func home(t *testing.T, d *tour.Demo) underlay.Underlay {
	u, err := underlay.Vantage(t.Context(), d.Lab.Vantages()[0].Link)
	require.NoError(t, err)
	t.Cleanup(u.Close)
	return u
}

// connect logs somebody in.
func connect(t *testing.T, d *tour.Demo, user string) *probe.Tunnel {
	tn, err := probe.Open(t.Context(), home(t, d), order(t, d, user), probe.Options{Password: d.Passwords[user]})
	require.NoError(t, err)
	t.Cleanup(tn.Close)
	return tn
}

// journaled waits for a line of the journal.
func journaled(t *testing.T, d *tour.Demo, kind, words string) gateway.Event {
	var found gateway.Event
	require.Eventually(t, func() bool {
		es, err := client.Get[[]gateway.Event](context.Background(), d.Client, "/journal?kind="+kind)
		for _, e := range es {
			if strings.Contains(e.Words, words) {
				found = e
				return true
			}
		}
		return err != nil
	}, 20*time.Second, 30*time.Millisecond, "no line of kind %s says %q", kind, words)
	return found
}

func mustAddr(s string) netip.Addr         { return netip.MustParseAddr(s) }
func mustAddrPort(s string) netip.AddrPort { return netip.MustParseAddrPort(s) }

// pingFrom writes a ping with any source.
func pingFrom(t *testing.T, src, dst string) []byte {
	t.Helper()
	return packet.EchoRequest(mustAddr(src), mustAddr(dst), []byte{0, 9, 0, 1})
}
