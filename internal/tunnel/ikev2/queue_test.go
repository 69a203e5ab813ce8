package ikev2

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What the kernel loses because nobody reads in time is counted, of these sockets alone.
func TestOverflown(t *testing.T) {
	open := func() *net.UDPConn {
		c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		require.NoError(t, c.SetReadBuffer(4096))
		return c
	}
	lazy, other := open(), open()
	require.Zero(t, overflown(lazy, other))
	for range 200 {
		_, err := other.WriteTo(make([]byte, 1400), lazy.LocalAddr())
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return overflown(lazy) > 100 }, time.Second, 10*time.Millisecond)
	require.Zero(t, overflown(other))
}
