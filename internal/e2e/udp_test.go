package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
)

// A UDP service is tried for real: its answer counts, a closed port is told, and the largest packet that the tunnel carries gets
// there and back.
func TestUDPService(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	s.Site = strings.Replace(s.Site, "ping: true, web: [80], tcp: [445]}", "ping: true, web: [80], tcp: [445], udp: [7000]}", 1)
	s.Plan = strings.NewReplacer("  - {name: files, ports: [tcp/445]}",
		"  - {name: files, ports: [tcp/445]}\n  - {name: weather, ports: [udp/7000-7001]}",
		"  - {name: wardens-out,", "  - {name: weather, action: permit, groups: [wardens], to: [office], services: [weather]}\n  - {name: wardens-out,",
		"expectations:\n", "expectations:\n  - {name: wardens-hear-the-weather, groups: [wardens], must: reach, to: [office], services: [weather]}\n").Replace(s.Plan)
	d, err := tour.PrepareScenario(t.Context(), s, options(t))
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	_, _, err = d.Commit(t.Context())
	require.NoError(t, err)
	r, err := probe.Run(t.Context(), home(t, d), order(t, d, "wanda.warden"), probe.Options{Password: d.Passwords["wanda.warden"]})
	require.NoError(t, err)
	seen := map[string]probe.Result{}
	for _, x := range r.Results {
		if x.Place == "office" {
			seen[x.Service] = x
		}
	}
	require.True(t, seen["udp/7000"].OK, "%+v", seen["udp/7000"])
	require.Contains(t, seen["udp/7001"].Seen.Words, "the port is closed", "the edge of the range is tried as well")
	require.Contains(t, seen["udp/7001"].Likely, "does not listen on udp/7001")

	tn := connect(t, d, "wanda.warden")
	c, err := tn.Stack.DialUDP(mustAddrPort("10.20.0.20:7000"))
	require.NoError(t, err)
	defer c.Close()
	buf := make([]byte, 4096)
	echo := func(size int) bool {
		_, _ = c.Write(make([]byte, size))
		_ = c.SetReadDeadline(time.Now().Add(time.Second))
		n, err := c.Read(buf)
		return err == nil && n == size
	}
	require.True(t, echo(1292), "the largest that fits 1320")
	ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	require.Len(t, ss, 1)
	require.Zero(t, ss[0].Lost["size"])
}
