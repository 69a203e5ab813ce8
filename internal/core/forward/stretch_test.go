package forward

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/island"
)

// sent draws a packet of few flows, so that many follow each other, and now and then what is none of them.
func sent(t *rapid.T) []byte {
	six := rapid.IntRange(0, 3).Draw(t, "family") == 0
	src, to := warden, []netip.Addr{office, mirror, netip.MustParseAddr("10.20.0.1"), netip.MustParseAddr("10.20.40.10"), router}
	if six {
		src, to = netip.MustParseAddr("fd00:99::5"), []netip.Addr{
			netip.MustParseAddr("fd00:20::20"),
			netip.MustParseAddr("2001:db8:80::80"),
		}
	}
	dst := rapid.SampledFrom(to).Draw(t, "to")
	port := rapid.SampledFrom([]uint16{80, 443, 53}).Draw(t, "service")
	own := uint16(rapid.IntRange(40000, 40001).Draw(t, "port"))
	size := rapid.SampledFrom([]int{60, 61, 1400}).Draw(t, "octets")
	var b []byte
	switch kind := rapid.IntRange(0, 5).Draw(t, "kind"); {
	case kind == 0:
		b = packet.EchoRequest(src, dst, make([]byte, 12))
	case kind == 1 || six:
		b = packet.UDP(netip.AddrPortFrom(src, own), netip.AddrPortFrom(dst, port), make([]byte, size))
	default:
		flags := rapid.SampledFrom([]byte{0x10, 0x10, 0x10, packet.SYN, 0x18, packet.FIN | 0x10, packet.RST}).Draw(t, "flags")
		b = tcp(src, dst, own, port, flags, size)
		b[32] = 0x60 // with an option: a segment size
		copy(b[40:], []byte{2, 4, 5, 180})
	}
	if rapid.IntRange(0, 9).Draw(t, "longer") == 0 {
		b = append(b, 1, 2, 3)
	}
	if rapid.IntRange(0, 9).Draw(t, "spoilt") == 0 {
		b[rapid.IntRange(0, min(len(b), 60)-1).Draw(t, "octet")] ^= byte(1 << rapid.IntRange(0, 7).Draw(t, "bit"))
	}
	return b
}

// What becomes of packets that are taken together is what becomes of each taken by itself, and what is counted is the same: where a kernel
// routes, and where we do.
func TestTakenTogether(t *testing.T) {
	m := island.Model(t)
	rapid.Check(t, func(t *rapid.T) {
		byKernel := rapid.Bool().Draw(t, "by a kernel")
		begin := func() (*Engine, *Session) {
			e := New(m, &session.Table{})
			e.ByKernel = byKernel
			s := &Session{
				ID: 1, User: "wanda", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden, netip.MustParseAddr("fd00:99::5")}, MTU: 1400, ClampMSS: true,
			}
			attach(e, s)
			return e, s
		}
		one, alone := begin()
		all, together := begin()
		inwards := uint64(0)
		for at := noon; at.Before(noon.Add(400e9)); at = at.Add(100e9) {
			var batch []inside.Packet
			var want, got []string
			var b []byte
			for range rapid.IntRange(1, 30).Draw(t, "packets") {
				if b == nil || rapid.Bool().Draw(t, "another") {
					b = sent(t)
				} else if len(b) > 33 && b[9] == 6 {
					b = slices.Clone(b)
					b[33] = rapid.SampledFrom([]byte{0x10, packet.SYN, packet.FIN, packet.RST}).Draw(t, "flags")
				}
				batch = append(batch, inside.Roomy(b))
				want = append(want, told(one.FromTunnel(alone, slices.Clone(b), at)))
			}
			for len(batch) > 0 {
				n, frames, last := all.FromTunnelAll(together, batch, at, nil)
				for _, f := range frames {
					for _, p := range f.Packets {
						got = append(got, told(Result{Inside: f.Egress, Packet: p.Bytes()}))
						if i, _ := packet.Parse(p.Bytes()); !i.ICMPError() {
							inwards++
						}
					}
				}
				if len(got) < len(want)-len(batch)+n {
					got = append(got, told(last))
				} else {
					require.Zero(t, told(last), "nothing else is told")
				}
				batch = batch[n:]
			}
			require.Equal(t, want, got)
			one.Tick(at.Add(31e9)) // those that were reset are over
			all.Tick(at.Add(31e9))
			require.Equal(t, alone.Counted(), together.Counted())
			require.Equal(t, one.Rules(), all.Rules())
			counted := uint64(0)
			for _, r := range all.Rules() {
				counted += r.Packets
			}
			require.GreaterOrEqual(t, counted, inwards, "rules count what they let in")
			everybody := func(string) bool { return true }
			require.ElementsMatch(t, one.FlowsWith(everybody, netip.Addr{}, "", 100), all.FlowsWith(everybody, netip.Addr{}, "", 100))
		}
	})
}

// A flow that is known is lost where the station is that no longer lets it through: after a commit, and once hours begin.
func TestKnownFlowIsLost(t *testing.T) {
	night := time.Date(2026, 6, 1, 23, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name, from, to, station string
		at                      time.Time
	}{
		{"rules", "groups: [wardens], to: [station, archive]", "groups: [wardens], to: [archive]", site.Rules, noon},
		{"selectors", "routes: {full: true}", "routes: {split: [archive]}", site.Selectors, noon},
		{"selectors, after an answer", "routes: {full: true}", "routes: {split: [archive]}", site.Selectors, noon},
		{"hours", "", "", site.Rules, night},
		{"nothing", "", "", "", noon},
	} {
		t.Run(c.name, func(t *testing.T) {
			hours := []string{"to: [instruments], services: [files]", "to: [station], services: [web]"}
			e := New(island.Model(t, hours...), &session.Table{})
			s := &Session{ID: 1, User: "wanda", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden}, MTU: 1400}
			attach(e, s)
			for range 2 {
				require.Empty(t, e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon).Station)
			}
			if c.from != "" {
				e.Commit(island.Model(t, append(hours, c.from, c.to)...))
			}
			if strings.HasSuffix(c.name, "after an answer") {
				require.Empty(t, e.FromInside(tcp(office, warden, 80, 40000, 16, 60), false, noon).Station)
			}
			for range 2 {
				require.Equal(t, c.station, e.FromTunnel(s, tcp(warden, office, 40000, 80, 16, 60), c.at).Station)
			}
		})
	}
}

// told is what becomes of a packet.
func told(r Result) string {
	if r.Inside == nil && r.Session == nil && r.Packet == nil && r.Answer == nil && r.Station == "" && r.Logged == nil {
		return ""
	}
	way := site.Egress{}
	if r.Inside != nil {
		way = *r.Inside
	}
	return fmt.Sprintf("%v %v %x %x %s %v %v", way, r.Session != nil, r.Packet, r.Answer, r.Station, r.Logged != nil, r.Cut())
}
