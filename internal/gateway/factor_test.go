package gateway

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// seenAt is a path to a device that is seen at an address.
type seenAt struct{ at netip.AddrPort }

func (seenAt) Send(inside.Packet)      {}
func (seenAt) SendAll([]inside.Packet) {}
func (p seenAt) Where() session.Where  { return session.Where{Addr: p.at} }
func (seenAt) Missing() uint64         { return 0 }

// A session goes on without a second factor for as long as nothing asks for one where its device is; one that is held waits, but not for
// ever, and not once nothing asks any more.
func TestFactorless(t *testing.T) {
	relay, there := netip.MustParseAddrPort("127.0.0.1:4500"), netip.MustParseAddrPort("198.51.100.7:4500")
	g := &Gateway{cfg: Config{SeenAt: func(a netip.AddrPort) netip.AddrPort {
		if a == relay {
			return there
		}
		return a
	}}}
	model := func(f plan.SecondFactor) *site.Model {
		m, err := site.Compile(&plan.Plan{
			Gateways: []plan.Gateway{{Name: "gate"}}, Tunnels: []plan.Tunnel{{Name: "main", Gateway: "gate"}},
			Passages: []plan.Passage{{Name: "p", Groups: []string{"a"}, Tunnels: []string{"main"}, Factor: f}},
		}, "gate")
		require.NoError(t, err)
		return m
	}
	now := time.Now()
	places := plan.SecondFactor{Asked: true, NotFrom: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}}
	for _, x := range []struct {
		about string
		asks  plan.SecondFactor
		at    netip.AddrPort
		held  bool
		coded time.Time
		age   time.Duration
		want  reason.Code
		holds bool
	}{
		{"at a place", places, there, false, time.Time{}, time.Hour, "", false},
		{"at a place, by a relay", places, relay, false, time.Time{}, time.Hour, "", false},
		{"it left", places, netip.MustParseAddrPort("203.0.113.9:4500"), false, time.Time{}, time.Hour, reason.LeftPlace, false},
		{"it left, and had given a code", places, netip.MustParseAddrPort("203.0.113.9:4500"), false, now, time.Hour, "", false},
		{"held", places, there, true, time.Time{}, time.Minute, "", true},
		{"held for long", places, there, true, time.Time{}, heldMost, reason.HeldTooLong, true},
		{"of others", plan.SecondFactor{Asked: true, Of: []string{"b"}}, there, true, time.Time{}, heldMost, "", false},
		{"of nobody any more", plan.SecondFactor{}, there, true, time.Time{}, time.Minute, "", false},
	} {
		var all session.Table
		s := &session.Session{ID: 1, Groups: []string{"a"}, Since: now.Add(-x.age), Coded: x.coded}
		if x.held {
			s.Hold()
		}
		require.True(t, all.Add(s) && all.Up(s, seenAt{x.at}))
		require.Equal(t, x.want, g.factorless(model(x.asks), s, now).Code, x.about)
		held, _ := s.Factor()
		require.Equal(t, x.holds, held, x.about)
	}
}
