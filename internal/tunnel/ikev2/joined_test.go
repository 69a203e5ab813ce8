package ikev2

import (
	"encoding/binary"
	"math/rand/v2"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// sendJoined sends datagrams of one length, the last perhaps shorter, by one system call (udp(7) UDP_SEGMENT).
func sendJoined(t testing.TB, c *net.UDPConn, whole []byte, each int) {
	oob := make([]byte, unix.CmsgSpace(2))
	binary.NativeEndian.PutUint64(oob, uint64(unix.CmsgLen(2)))
	binary.NativeEndian.PutUint32(oob[8:], unix.IPPROTO_UDP)
	binary.NativeEndian.PutUint32(oob[12:], unix.UDP_SEGMENT)
	binary.NativeEndian.PutUint16(oob[unix.SizeofCmsghdr:], uint16(each))
	if _, _, err := c.WriteMsgUDP(whole, oob, nil); err != nil {
		t.Skipf("this kernel sends nothing joined: %v", err)
	}
}

// received opens a port of the gateway's, and gives a connection to it.
func received(t testing.TB, at string, plain bool) (*Sockets, *net.UDPConn) {
	s, err := Listen("127.0.0.1:0", at, plain)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.Equal(t, !plain, s.natt.joined)
	to := net.UDPAddrFromAddrPort(s.NATT())
	if to.IP.IsUnspecified() {
		to.IP = net.IPv4(127, 0, 0, 1)
	}
	c, err := net.DialUDP("udp", nil, to)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return s, c
}

// What comes joined is handed over octet by octet as what comes one by one, with or without the kernel's joining, at one address or at all;
// what stands free around a datagram is its own.
func TestJoinedReceive(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, plain := range []bool{false, true} {
		for _, at := range []string{"127.0.0.1:0", ":0"} {
			s, c := received(t, at, plain)
			var want [][]byte
			got, done := make(chan []byte, 4096), make(chan struct{})
			go func() {
				defer close(done)
				s.natt.read(func(batch []datagram) {
					for _, d := range batch {
						if len(d.data) != cap(d.data) && len(batch) > 1 && s.natt.joined {
							got <- nil // it would reach into the next one
						}
						if s.natt.many && !d.local.Is4() {
							got <- nil
						}
						got <- append([]byte{}, d.data...)
					}
				})
			}()
			for range 60 {
				each := []int{1, 2, 40, 576, 1280, 1400, 1472}[r.IntN(7)]
				n := 1 + r.IntN(min(40, 60000/each)*each)
				whole := make([]byte, n)
				for i := range whole {
					whole[i] = byte(r.Uint32())
				}
				if r.IntN(3) == 0 { // one by one
					each = min(each, len(whole))
					_, err := c.Write(whole[:each])
					require.NoError(t, err)
					want = append(want, whole[:each])
				} else {
					sendJoined(t, c, whole, each)
					for len(whole) > 0 {
						k := min(each, len(whole))
						want, whole = append(want, whole[:k]), whole[k:]
					}
				}
				for len(want) > 0 {
					select {
					case b := <-got:
						require.Equal(t, want[0], b, "plain %v at %s", plain, at)
						want = want[1:]
					case <-time.After(5 * time.Second):
						t.Fatalf("%d datagrams did not come", len(want))
					}
				}
			}
			s.wake()
			<-done
		}
	}
	require.Zero(t, eachOf([]byte{1, 2, 3}))
	require.Zero(t, eachOf(append(binary.NativeEndian.AppendUint64(nil, 1<<60), make([]byte, 24)...)))
}

// BenchmarkReceive takes datagrams of 1,400 octets from a socket, sent 44 at a time by one system call on the same machine, whose time is
// counted too: one by one, and joined.
func BenchmarkReceive(b *testing.B) {
	const each, at = 1400, 44
	whole := make([]byte, each*at)
	for _, plain := range []bool{true, false} {
		b.Run(map[bool]string{true: "one-by-one", false: "joined"}[plain], func(b *testing.B) {
			s, c := received(b, "127.0.0.1:0", plain)
			took, done := make(chan int, 64), make(chan struct{})
			go func() {
				defer close(done)
				s.natt.read(func(batch []datagram) { took <- len(batch) })
			}()
			b.ReportAllocs()
			for sent := 0; b.Loop(); sent++ {
				if sent%at == 0 {
					sendJoined(b, c, whole, each)
					for n := 0; n < at; {
						n += <-took
					}
				}
			}
			s.wake()
			<-done
		})
	}
}
