package ike

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
)

// A device is given no more addresses of a family than it asks for (RFC 7296 §3.15.1), a prefix with the address that is in it, and traffic
// of all of that is agreed on.
func TestSeveralAddressesAndAPrefix(t *testing.T) {
	prefix := netip.MustParsePrefix("fd00:99:0:7::/64")
	for asks, gets := range map[int][]string{1: {"10.99.0.2", "fd00:99:0:7::1"}, 2: {"10.99.0.2", "10.99.0.3", "fd00:99:0:7::1"}} {
		w := newWorld(t, func(_ *Settings, c *Caller) { c.Addresses = asks })
		w.grant.Addresses = []netip.Addr{
			netip.MustParseAddr("10.99.0.2"), netip.MustParseAddr("10.99.0.3"), prefix.Addr().Next(),
		}
		w.grant.Prefixes = []netip.Prefix{prefix}
		w.login()
		est, ok := find[Established](w)
		require.True(t, ok, "%v", w.failure())
		var got []string
		for _, a := range est.Addresses {
			got = append(got, a.String())
		}
		require.Equal(t, gets, got)
		require.Equal(t, []netip.Prefix{prefix}, est.Prefixes)
		up, _ := find[Up](w)
		require.Equal(t, gets, func() (out []string) {
			for _, a := range up.Addresses {
				out = append(out, a.String())
			}
			return out
		}())
		require.Equal(t, asks, w.asked[0].Want4)
		require.Equal(t, est.Child.Local, up.Child.Remote)
		want := netset.OfAddrs(est.Addresses...).Union(netset.OfPrefixes(prefix))
		require.Equal(t, want.String(), est.Child.Local.String())
	}
	conf := Configuration{Addresses: []netip.Addr{prefix.Addr().Next()}, Prefixes: []netip.Prefix{prefix}}
	require.Empty(t, conf.askedFor([]cfgAttr{{kind: cfgIP4Address}}).leased(), "a prefix goes with its address")
}
