package ikev2

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/ike"
)

// sendJoined sends datagrams of one length, the last perhaps shorter, by one system call (udp(7) UDP_SEGMENT).
func sendJoined(t testing.TB, c *net.UDPConn, whole []byte, each int) {
	sendJoinedTo(t, c, whole, each, nil)
}

func sendJoinedTo(t testing.TB, c *net.UDPConn, whole []byte, each int, to *net.UDPAddr) {
	oob := make([]byte, unix.CmsgSpace(2))
	binary.NativeEndian.PutUint64(oob, uint64(unix.CmsgLen(2)))
	binary.NativeEndian.PutUint32(oob[8:], unix.IPPROTO_UDP)
	binary.NativeEndian.PutUint32(oob[12:], unix.UDP_SEGMENT)
	binary.NativeEndian.PutUint16(oob[unix.SizeofCmsghdr:], uint16(each))
	if _, _, err := c.WriteMsgUDP(whole, oob, to); err != nil {
		t.Skipf("this kernel sends nothing joined: %v", err)
	}
}

// receiving opens a port of the gateway's, and gives a connection to it.
func receiving(t testing.TB, at string, plain bool) (*Sockets, *net.UDPConn) {
	s, err := Listen("127.0.0.1:0", at, How{Plain: plain, Workers: 1})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.Equal(t, !plain, s.natt[0].joined)
	to := net.UDPAddrFromAddrPort(s.NATT())
	if to.IP.IsUnspecified() {
		to.IP = net.IPv4(127, 0, 0, 1)
	}
	c, err := net.DialUDP("udp", nil, to)
	require.NoError(t, err)
	require.NoError(t, c.SetReadBuffer(4<<20))
	t.Cleanup(func() { _ = c.Close() })
	return s, c
}

// What comes joined is handed over octet by octet as what comes one by one, with or without the kernel's joining, at one address or at all;
// what stands free around a datagram is its own.
func TestJoinedReceive(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, plain := range []bool{false, true} {
		for _, at := range []string{"127.0.0.1:0", ":0"} {
			s, c := receiving(t, at, plain)
			var want [][]byte
			got, done := make(chan []byte, 4096), make(chan struct{})
			go func() {
				defer close(done)
				_ = s.natt[0].read(func(batch []datagram) {
					for _, d := range batch {
						if len(d.data) != cap(d.data) && len(batch) > 1 && s.natt[0].joined {
							got <- nil // it would reach into the next one
						}
						if s.natt[0].many && !d.local.Is4() {
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

// What is sent joined comes octet by octet, and in order, as what is sent one by one: whatever the lengths, from one address or from
// whichever was dialled, and where the kernel cannot cut.
func TestJoinedSend(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, plain := range []bool{false, true} {
		for _, at := range []string{"127.0.0.1:0", ":0"} {
			s, c := receiving(t, at, plain)
			require.Equal(t, !plain, s.natt[0].segments.Load())
			to := ike.Peer{Addr: c.LocalAddr().(*net.UDPAddr).AddrPort(), NATT: true}
			if s.natt[0].many {
				to.Local = netip.MustParseAddr("127.0.0.1")
			}
			var alone atomic.Bool
			j := &joining{whole: make([]byte, 0, mostJoined), most: s.natt[0].atOnce(&alone), by: plainly{s.natt[0], &alone}, to: to}
			for range 200 {
				var want [][]byte
				each := 1 + r.IntN(1472)
				for range 1 + r.IntN(60) {
					b := make([]byte, each)
					switch r.IntN(12) {
					case 0:
						b = b[:1+r.IntN(each)]
					case 1:
						b = make([]byte, 1+r.IntN(1472))
					}
					for i := range b {
						b[i] = byte(r.Uint32())
					}
					want = append(want, b)
					copy(j.place(len(b)), b)
					j.added(len(b))
				}
				j.flush()
				buf := make([]byte, 2048)
				for i, w := range want {
					require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
					n, err := c.Read(buf)
					require.NoError(t, err, "%d of %d", i, len(want))
					require.True(t, bytes.Equal(w, buf[:n]), "%d of %d, at %s", i, len(want), at)
				}
			}
			require.False(t, alone.Load())
		}
	}
}

// plainly carries datagrams of any kind.
type plainly struct {
	*socket
	alone *atomic.Bool
}

func (p plainly) sendRun(whole []byte, each int, to ike.Peer) {
	p.socket.sendRun(whole, each, to, p.alone)
}

// eachOfMany measures so many datagrams, each by its number.
func eachOfMany(b *testing.B, many int, each func(int)) {
	b.ReportAllocs()
	for b.Loop() {
		for n := range many {
			each(n)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*many), "ns/datagram")
}

// BenchmarkJoinedSend sends datagrams of 1,400 octets to a socket on the same machine that nobody reads: one by one, and 40 joined.
func BenchmarkJoinedSend(b *testing.B) {
	for _, joined := range []bool{false, true} {
		b.Run(map[bool]string{false: "one-by-one", true: "joined"}[joined], func(b *testing.B) {
			s, c := receiving(b, "127.0.0.1:0", false)
			to, data := ike.Peer{Addr: c.LocalAddr().(*net.UDPAddr).AddrPort(), NATT: true}, make([]byte, 1400)
			var alone atomic.Bool
			j := &joining{whole: make([]byte, 0, mostJoined), most: 40, by: plainly{s.natt[0], &alone}, to: to}
			eachOfMany(b, sized(100_000), func(int) {
				if !joined {
					s.natt[0].send(data, to)
					return
				}
				copy(j.place(len(data)), data)
				j.added(len(data))
			})
		})
	}
}

// BenchmarkReceive takes datagrams of 1,400 octets from a socket, sent 44 at a time by one system call on the same machine, whose time is
// counted too: one by one, and joined.
func BenchmarkReceive(b *testing.B) {
	const each, at = 1400, 44
	whole := make([]byte, each*at)
	for _, plain := range []bool{true, false} {
		b.Run(map[bool]string{true: "one-by-one", false: "joined"}[plain], func(b *testing.B) {
			s, c := receiving(b, "127.0.0.1:0", plain)
			took, done := make(chan int, 64), make(chan struct{})
			go func() {
				defer close(done)
				_ = s.natt[0].read(func(batch []datagram) { took <- len(batch) })
			}()
			eachOfMany(b, at*(sized(100_000)/at), func(sent int) {
				if sent%at == 0 {
					sendJoined(b, c, whole, each)
					for n := 0; n < at; {
						n += <-took
					}
				}
			})
			s.wake()
			<-done
		})
	}
}
