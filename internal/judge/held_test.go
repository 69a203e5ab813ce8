package judge

import (
	"net/netip"
	"slices"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// compareHeld sends a packet in a session that is held: nothing of it goes inside, the code page gets what is its, and nobody from inside
// reaches the person. It gives where the packet ended.
func compareHeld(t *rapid.T, judge naive, m *site.Model, c *site.Class, leased []netip.Addr, k probePacket, at time.Time) string {
	want := judge.held(c.Groups, leased, k)
	e := forward.New(m, &session.Table{})
	s := holding(c.Groups, leased)
	s.DNS = judge.passage(c.Groups).DNS.Servers
	s.Hold()
	attach(e, s)
	inParts(k, octets(k), func(b []byte) forward.Result {
		got := e.FromTunnel(s, b, at)
		require.Nil(t, got.Inside, "held, and it goes inside: %+v", k)
		page := judge.page(k.dst) && slices.Contains(leased, k.src) && !k.fragment
		require.Equal(t, page && !(k.proto == 17 && k.port == 53), got.Page, "the code page: %+v", k)
		if k.fragment && (want == "held" || want == "source") || !k.fragment && want != "own-services" {
			require.Equal(t, want, got.Station, "held: %+v", k)
		}
		return got
	})
	if !k.fragment {
		j := m.TravelHeld(c, site.Packet{Src: k.src, Dst: k.dst, Service: service(k)}, netset.OfAddrs(leased...))
		require.Equal(t, want, j.Steps[len(j.Steps)-1].Station, "journey while held of %+v", k)
		require.Equal(t, want == site.OwnServices, j.Answered)
		require.False(t, j.Enforced || j.Arrives)
	}
	if slices.ContainsFunc(leased, func(a netip.Addr) bool { return a.Is4() == k.dst.Is4() }) && len(leased) > 0 {
		back := k
		back.src, back.dst = k.dst, leased[0]
		if back.src.Is4() == back.dst.Is4() {
			for _, outside := range []bool{true, false} {
				got := inParts(back, octets(back), func(b []byte) forward.Result { return e.FromInside(b, outside, at) })
				if i, err := packet.Parse(octets(back)); err == nil && i.EchoRequest() && m.OwnAddresses().Contains(back.dst) {
					continue
				}
				require.Nil(t, got.Session, "from inside into a session that is held: %+v", back)
			}
		}
	}
	require.Zero(t, e.Flows())
	require.True(t, s.Release(at))
	return want
}
