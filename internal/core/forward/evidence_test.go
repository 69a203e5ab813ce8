package forward

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/island"
)

// The record of a user says what was let through, what was answered and what was refused, also once their session is over, and nothing of
// others.
func TestFollowed(t *testing.T) {
	e := New(island.Model(t), &session.Table{})
	require.True(t, e.Follow("~trial", noon))
	s := &Session{ID: 1, User: "~trial", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden}, MTU: 1400}
	attach(e, s)
	other := &Session{ID: 2, User: "wanda", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden.Next()}, MTU: 1400}
	attach(e, other)
	stranger := netip.MustParseAddr("10.20.30.5")
	for range 2 {
		require.NotNil(t, e.FromTunnel(s, tcp(warden, office, 40000, 80, packet.SYN, 60), noon).Inside)
		require.Equal(t, site.Rules, e.FromTunnel(s, tcp(warden, stranger, 40000, 1, packet.SYN, 60), noon).Station)
	}
	e.FromTunnel(s, tcp(warden, office.Next(), 40001, 80, packet.SYN, 60), noon)
	e.FromTunnel(other, tcp(warden.Next(), office, 40001, 80, packet.SYN, 60), noon)
	require.NotNil(t, e.FromInside(tcp(office, warden, 80, 40000, packet.SYN|0x10, 60), false, noon).Session)
	e.Detach(s, reason.Of(reason.TrialOver, nil))

	got, known := e.Followed("~trial")
	require.True(t, known)
	require.Equal(t, Evidence{Began: true, Decisions: []Decision{
		{Dst: office, Service: netset.PortPoint(netset.TCP, 80), Answered: true},
		{Dst: stranger, Service: netset.PortPoint(netset.TCP, 1), Lost: site.Rules},
		{Dst: office.Next(), Service: netset.PortPoint(netset.TCP, 80)},
	}}, got)
	_, known = e.Followed("~trial")
	require.False(t, known, "it ends with that")

	require.True(t, e.Follow("~kept-out", noon))
	e.RefusedLogin("~kept-out", reason.Of(reason.NoPassage, nil))
	e.RefusedLogin("wanda", reason.Of(reason.NoPassage, nil))
	got, _ = e.Followed("~kept-out")
	require.Equal(t, Evidence{Refused: reason.Of(reason.NoPassage, nil)}, got)
	_, known = e.Followed("wanda")
	require.False(t, known)

	for i := range 2 * mostFollowed {
		require.Equal(t, i < mostFollowed, e.Follow("~"+string(rune('a'+i)), noon))
	}
	require.True(t, e.Follow("~later", noon.Add(2*followedTime)), "what nobody came for is gone")
}
