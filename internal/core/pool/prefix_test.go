package pool

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
)

// Whatever is leased and released, and whatever length prefixes get meanwhile: nothing that is leased meets what another one has, prefixes
// are the supply's whole, there are as many of them as Room says, and several addresses are given as far as there are some.
func TestPrefixes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		supply := netset.OfPrefixes(netip.MustParsePrefix("10.99.0.0/28"), netip.MustParsePrefix("fd00::/61"),
			netip.MustParsePrefix("fd00:1::/64")).Subtract(netset.OfPrefixes(netip.MustParsePrefix("fd00::/66")))
		each := 64
		p := New(supply, map[netip.Addr]string{netip.MustParseAddr("fd00:1::9"): "kept"}, each)
		held := map[string]netset.Addrs{}
		given := map[string][]netip.Addr{}
		prefixes := 0
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			who := fmt.Sprint(rapid.IntRange(0, 12).Draw(t, "who"))
			if rapid.IntRange(0, 9).Draw(t, "another length") == 0 {
				each = rapid.SampledFrom([]int{0, 63, 64}).Draw(t, "length")
				p.Resize(supply, nil, each)
				prefixes = -1 // those of before count otherwise
			}
			if a, ok := given[who]; ok {
				p.Release(a...)
				delete(given, who)
				delete(held, who)
				continue
			}
			want := rapid.IntRange(0, 3).Draw(t, "want")
			got, err := p.Lease(who, want, want)
			if err != nil {
				require.NotEmpty(t, given)
				continue
			}
			var mine netset.Addrs
			for _, a := range got {
				one := netset.OfAddrs(a)
				if !a.Is4() && each > 0 {
					prefix, err := a.Prefix(each)
					require.NoError(t, err)
					require.Equal(t, prefix.Addr().Next(), a)
					one = netset.OfPrefixes(prefix)
				}
				require.True(t, supply.Covers(one), "%s", one)
				require.False(t, mine.Overlaps(one))
				mine = mine.Union(one)
			}
			require.LessOrEqual(t, len(got), 2*max(want, 1))
			for other, has := range held {
				require.False(t, has.Overlaps(mine), "%s has %s, and %s gets %s", other, has, who, mine)
			}
			held[who], given[who] = mine, got
		}
		if prefixes == 0 {
			require.Equal(t, 8, Room(supply, false, 64, 100)) // eight of fd00::/61 but for the first, and fd00:1::/64
			require.LessOrEqual(t, len(given), 8)
		}
	})
	supply := netset.OfPrefixes(netip.MustParsePrefix("fd00:1::/64"), netip.MustParsePrefix("fd00:2::/65"))
	p := New(supply, map[netip.Addr]string{netip.MustParseAddr("fd00:1::9"): "rory"}, 64)
	_, err := p.Lease("wanda", 1, 1)
	require.ErrorIs(t, err, ErrExhausted, "it is kept for rory, by any of its addresses")
	got, err := p.Lease("rory", 1, 5)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{netip.MustParseAddr("fd00:1::1")}, got)
	everything := netset.OfPrefixes(netip.MustParsePrefix("::/0"))
	require.Equal(t, []int{1, 0, 5}, []int{Room(supply, false, 64, 9), Room(supply, false, 62, 9), Room(everything, false, 48, 5)})
}
