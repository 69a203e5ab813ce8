package e2e

import (
	"context"
	"encoding/json"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
)

// A device is given as many addresses as it asks for and its passage allows, and a whole prefix where the pool says so; a commit by which
// there would be others ends its session, and one that has nothing to do with that does not.
func TestSeveralAddresses(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	commit := func(edits ...[]string) {
		for _, e := range edits {
			x.did(append([]string{"plan"}, e...)...)
		}
		x.did("plan", "commit", "-m", "addresses", "--accept", "all", "--because", "it is a trial")
	}
	commit([]string{"set", "passages/research/limits", "{addresses: 3}"})
	open := func(ask int) *probe.Tunnel {
		t.Helper()
		tn, err := probe.Open(t.Context(), home(t, d), order(t, d, "rory.researcher"), probe.Options{
			Password: d.Passwords["rory.researcher"], Addresses: ask,
		})
		require.NoError(t, err)
		t.Cleanup(tn.Close)
		return tn
	}
	live := func() (out []gateway.Session) {
		t.Helper()
		require.NoError(t, json.Unmarshal([]byte(x.did("--json", "sessions", "list")), &out))
		return out
	}
	require.Len(t, open(1).Given.Addresses, 2, "one of each family")
	require.Len(t, open(5).Given.Addresses, 6)
	commit([]string{"set", "passages/research/banner", "mind the gulls"})
	require.Len(t, live(), 2)

	commit([]string{"set", "pools/staff/prefixes", `[10.99.0.0/24, "fd00:99::/56"]`}, []string{"set", "pools/staff/prefix-each", "64"})
	require.Empty(t, live())
	tn := open(5)
	require.Len(t, tn.Given.Prefixes, 1)
	require.Equal(t, 64, tn.Given.Prefixes[0].Bits())
	require.Equal(t, tn.Given.Prefixes[0].Addr().Next(), tn.Given.Addresses[3], "three of IPv4, and the first of the prefix")
	require.True(t, netip.MustParsePrefix("fd00:99::/56").Contains(tn.Given.Addresses[3]))
	require.Equal(t, tn.Given.Prefixes, live()[0].Prefixes)
	require.Contains(t, x.did("pools"), "fd00:99::1")
	bounded, stop := context.WithTimeout(t.Context(), 10*time.Second)
	defer stop()
	_, err := tn.Stack.Ping(bounded, netip.MustParseAddr("fd00:20:30::5"), tn.Send)
	require.NoError(t, err)
}
