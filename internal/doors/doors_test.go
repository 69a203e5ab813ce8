package doors

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestBounded(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b := Bounded(ln, 5, 3)
	defer b.Close()
	accepted := make(chan net.Conn, 9)
	go func() {
		for {
			c, err := b.Accept()
			if err != nil {
				return
			}
			accepted <- c
		}
	}()
	dial := func(from string) (server net.Conn) {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		c, err := d.Dial("tcp", ln.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		select {
		case server = <-accepted:
		case <-time.After(100 * time.Millisecond):
		}
		return server
	}
	first := dial("127.0.0.7")
	require.NotNil(t, first)
	require.NotNil(t, dial("127.0.0.7"))
	require.NotNil(t, dial("127.0.0.7"))
	require.Nil(t, dial("127.0.0.7"), "one source has no more")
	require.NotNil(t, dial("127.0.0.8"), "another has")
	require.NotNil(t, dial("127.0.0.9"))
	require.Nil(t, dial("127.0.0.10"), "there are no more in all")
	require.NoError(t, first.Close())
	require.Error(t, first.Close(), "closed once")
	require.NotNil(t, dial("127.0.0.7"))
	require.Nil(t, dial("127.0.0.11"))
}
