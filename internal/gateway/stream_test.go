package gateway

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/ike"
)

// Strangers from one address cannot take the room of all; who has a session does not count as one.
func TestStreamsAreBounded(t *testing.T) {
	s := streams{conns: map[netip.AddrPort]*stream{}}
	open := func(addr string, port int) bool {
		return s.add(&stream{peer: ike.Peer{Addr: netip.AddrPortFrom(netip.MustParseAddr(addr), uint16(port)), TCP: true}, gone: make(chan struct{})})
	}
	for i := range maxStrangers {
		require.True(t, open("203.0.113.9", 1000+i))
	}
	require.False(t, open("203.0.113.9", 5000))
	require.True(t, open("203.0.113.45", 5000), "somebody else")
	s.alive(ike.Peer{Addr: netip.MustParseAddrPort("203.0.113.9:1000"), TCP: true})
	require.True(t, open("203.0.113.9", 5001), "one of them has a session now")
	for i := 0; len(s.conns) < maxStreams; i++ {
		require.True(t, open(netip.AddrFrom4([4]byte{198, 51, byte(i >> 8), byte(i)}).String(), 1))
	}
	require.False(t, open("192.0.2.77", 1))
	s.over = true
	s.conns = map[netip.AddrPort]*stream{}
	require.False(t, open("192.0.2.77", 1), "the gateway ends")
}
