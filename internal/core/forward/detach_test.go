package forward

import (
	"net/netip"
	"sync"
	"testing"

	"yellowlantern/internal/core/reason"

	"github.com/stretchr/testify/require"
)

// A packet of a session that is over opens no flow, however late it comes: the address's next holder inherits nothing.
func TestNothingPassesOfADetachedSession(t *testing.T) {
	e, s := engine(t)
	require.NotNil(t, e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon).Inside)
	up, first := e.Detach(s, reason.Of(reason.TrialOver, nil))
	require.True(t, up && first)
	counted := s.Counted()
	require.EqualValues(t, 1, counted.InPackets)
	late := e.FromTunnel(s, tcp(warden, office, 40001, 80, 2, 60), noon)
	require.Nil(t, late.Inside)
	require.Nil(t, late.Answer)
	require.Zero(t, e.Flows())
	require.Equal(t, counted, s.Counted(), "nor is it counted")

	next := &Session{ID: 2, User: "wendy", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden}, MTU: 1400}
	attach(e, next)
	require.Nil(t, e.FromInside(tcp(office, warden, 80, 40001, 18, 60), false, noon).Session)
	require.Nil(t, e.FromTunnel(s, tcp(warden, office, 40002, 80, 2, 60), noon).Inside, "nor beside the next holder")
}

// What a session counted is read at its end while packets still come.
func TestCountersAtTheEnd(t *testing.T) {
	for range 50 {
		e, s := engine(t)
		var wait sync.WaitGroup
		for range 2 {
			wait.Go(func() {
				for i := range 200 {
					e.FromTunnel(s, tcp(warden, netip.MustParseAddr("10.20.40.10"), uint16(i), 80, 2, 60), noon)
				}
			})
		}
		e.Detach(s, reason.Of(reason.TrialOver, nil))
		c := s.Counted()
		n := uint64(0)
		for _, v := range c.Lost {
			n += v
		}
		require.Equal(t, c.InPackets, n)
		wait.Wait()
	}
}
