package ikev2

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/buffers"
)

// Who waits for packets has no buffers, whether at a socket or at a device; who reads some has them until it waits again, or is told that
// there will be none.
func TestNoBuffersWhileWaiting(t *testing.T) {
	none := func() {
		require.Eventually(t, func() bool { return buffers.Lent() == 0 }, 5*time.Second, time.Millisecond)
	}
	none()
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{Workers: 1}))
	t.Cleanup(socks.Close)
	came, over := make(chan int, 1), make(chan error, 1)
	go func() {
		over <- socks.natt[0].read(func([]datagram) {
			came <- buffers.Lent()
		})
	}()
	conn := must(net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(socks.NATT())))
	defer conn.Close()
	for range 3 {
		must(conn.Write([]byte("ping")))
		require.Equal(t, batchSize, <-came)
		none()
	}
	socks.Close()
	require.Error(t, <-over)
	none()

	side := openSide(t, false, false, 1)
	packets := make(chan int, 1)
	go func() {
		for r := side.Reader(0); ; {
			batch, err := r.Read()
			if err != nil {
				close(packets)
				return
			}
			for _, p := range batch {
				if theirs(p.Bytes()) {
					packets <- buffers.Lent()
				}
			}
		}
	}()
	s := &stream4{src: names, port: 1, to: 2}
	b := make([]byte, 100)
	for range 3 {
		s.dst = netip.MustParseAddr("172.16.0.1")
		s.put(b)
		side.far.Write(b)
		require.Positive(t, <-packets)
		none()
	}
	side.Close()
	for range packets {
	}
	none()
}
