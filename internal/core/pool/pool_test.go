package pool

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
)

// Of several addresses that one holder has, the one that is given back is the one that they get next.
func TestSameAddressOfSeveral(t *testing.T) {
	p := New(netset.OfPrefixes(netip.MustParsePrefix("10.99.0.0/29")), nil, 0)
	var all []netip.Addr
	for range 4 {
		a, err := p.Lease("both", 1, 1)
		require.NoError(t, err)
		all = append(all, a...)
	}
	for _, a := range all {
		p.Release(a)
		again, err := p.Lease("both", 1, 1)
		require.NoError(t, err)
		require.Equal(t, []netip.Addr{a}, again)
	}
}

// Whatever is leased and released: nobody shares an address, each is from the supply, and a lease fails only when all are out.
func TestLeases(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		supply := netset.OfPrefixes(netip.MustParsePrefix("10.99.0.0/29"), netip.MustParsePrefix("10.99.3.0/30"),
			netip.MustParsePrefix("fd00::/120"))
		p := New(supply, nil, 0)
		held := map[string][]netip.Addr{}
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			who := fmt.Sprint(rapid.IntRange(0, 15).Draw(t, "who"))
			if a, ok := held[who]; ok {
				p.Release(a...)
				delete(held, who)
				if rapid.Bool().Draw(t, "comes back at once") {
					again, err := p.Lease(who, 1, 1)
					require.NoError(t, err)
					require.Equal(t, a, again, "the same address while it is free")
					held[who] = again
				}
				continue
			}
			a, err := p.Lease(who, 1, 1)
			if len(held) == 12 {
				require.ErrorIs(t, err, ErrExhausted)
				continue
			}
			require.NoError(t, err)
			require.Len(t, a, 2)
			for other, b := range held {
				require.NotContains(t, b, a[0], other)
				require.NotContains(t, b, a[1], other)
			}
			require.True(t, supply.Contains(a[0]) && supply.Contains(a[1]))
			held[who] = a
			require.Equal(t, 2*len(held), p.Leased())
		}
	})
}
