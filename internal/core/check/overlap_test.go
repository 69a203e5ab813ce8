package check

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
)

func spanOf(from, to uint32) netset.Span {
	addr := func(n uint32) netip.Addr { return netip.AddrFrom4([4]byte(binary.BigEndian.AppendUint32(nil, n))) }
	return netset.Span{From: addr(from), To: addr(to)}
}

// What is found by one pass is what comparing each with all before it finds.
func TestOverlapping(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		spans := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) netset.Span {
			from := rapid.Uint32Range(0, 60).Draw(t, "from")
			return spanOf(from, from+rapid.Uint32Range(0, 15).Draw(t, "more"))
		}), 0, 24).Draw(t, "spans")
		want := make([]bool, len(spans))
		for i := range spans {
			for k := range i {
				want[i] = want[i] || netset.OfSpans(spans[i]).Overlaps(netset.OfSpans(spans[k]))
			}
		}
		require.Equal(t, want, overlapping(spans))
	})
}

// BenchmarkOverlapping shows that a list of 30,000 ranges costs about ten times as much as one of 3,000.
func BenchmarkOverlapping(b *testing.B) {
	for _, n := range []int{3_000, 30_000} {
		spans := make([]netset.Span, n)
		for i := range spans {
			spans[i] = spanOf(uint32(i*7919%n)*16, uint32(i*7919%n)*16+9)
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				overlapping(spans)
			}
		})
	}
}
