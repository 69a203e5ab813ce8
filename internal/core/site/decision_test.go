package site

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// What rules say that were laid out is what each of them says when it is asked, whatever they overlap in and whatever hours they have.
func TestLaidOut(t *testing.T) {
	hours := &plan.Hours{Name: "day", From: plan.Clock{Minutes: 8 * 60}, To: plan.Clock{Minutes: 18 * 60}}
	ends := []string{
		"0.0.0.0", "10.0.0.0", "10.0.0.1", "10.0.0.7", "10.0.0.8", "10.0.255.255", "255.255.255.254", "255.255.255.255", "::", "::1", "fd00::1", "fd00::ffff",
		"ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff",
	}
	points := []netset.Point{0, 1, netset.PortPoint(6, 0), netset.PortPoint(6, 80), netset.PortPoint(6, 443), netset.PortPoint(6,
		65535), netset.PortPoint(17, 53), 0xffffff}
	rapid.Check(t, func(t *rapid.T) {
		var laid, asked side
		for i := range rapid.IntRange(0, 12).Draw(t, "rules") {
			r := &Rule{Rule: &plan.Rule{Name: fmt.Sprint("rule", i), Action: rapid.SampledFrom([]string{
				plan.Permit,
				plan.Refuse,
			}).Draw(t, "action")}, Index: i}
			if rapid.IntRange(0, 3).Draw(t, "hours") == 0 {
				r.Rule.Hours = "day"
				if rapid.Bool().Draw(t, "known") {
					r.hours = hours
				}
			}
			for range rapid.IntRange(1, 3).Draw(t, "parts") {
				a, b := rapid.IntRange(0, len(ends)-1).Draw(t, "from"), rapid.IntRange(0, len(ends)-1).Draw(t, "to")
				from, to := netip.MustParseAddr(ends[min(a, b)]), netip.MustParseAddr(ends[max(a, b)])
				if from.Is4() != to.Is4() {
					continue
				}
				x, y := rapid.IntRange(0, len(points)-1).Draw(t, "begin"), rapid.IntRange(0, len(points)-1).Draw(t, "end")
				r.Traffic = r.Traffic.Union(netset.Of(netset.OfSpans(netset.Span{From: from, To: to}),
					netset.Services{{From: points[min(x, y)], To: points[max(x, y)]}}))
			}
			laid.add(r)
			asked.add(r)
		}
		laid.laid.Store(laid.layOut())
		m := &Model{zone: time.UTC}
		for _, end := range ends {
			for _, a := range []netip.Addr{netip.MustParseAddr(end), netip.MustParseAddr(end).Next(), netip.MustParseAddr(end).Prev()} {
				if !a.IsValid() {
					continue
				}
				for _, service := range points {
					for _, when := range []When{
						{},
						Ever, At(time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)),
						At(time.Date(2026, 6, 1, 3, 0, 0, 0, time.UTC)),
					} {
						p := Packet{Dst: a, Service: service}
						r, ok, ref := m.decide(&asked, p, a, when)
						r2, ok2, ref2 := m.decide(&laid, p, a, when)
						require.True(t, r == r2 && ok == ok2 && ref == ref2,
							"%s %s %v: %v %v %v, laid out %v %v %v", a, service, when, r, ok, ref, r2, ok2, ref2)
					}
				}
			}
		}
	})
}

// Rules that would take too much to be laid out are asked one by one.
func TestTooMuchToLayOut(t *testing.T) {
	c := &Class{}
	for i := range 4000 {
		dst, port := netset.Everywhere, uint16(i)
		if i%2 == 0 {
			dst = netset.OfAddrs(netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}))
		}
		r := &Rule{Rule: &plan.Rule{Name: fmt.Sprint("rule", i), Action: plan.Permit}, Index: i}
		r.Traffic = netset.Of(dst, netset.Ports(netset.TCP, port, port))
		c.outward.add(r)
	}
	require.Nil(t, c.Ready().outward.laid.Load())
	to := netip.AddrFrom4([4]byte{10, 0, 4, 0})
	rule, ok, _ := (&Model{zone: time.UTC}).Permits(c, Packet{Dst: to, Service: netset.PortPoint(netset.TCP, 1024)}, When{})
	require.True(t, ok)
	require.Equal(t, 1024, rule.Index)
}
