package ikev2

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/tun"
)

// A path of packets is measured in processor time of everything but what feeds it, beside a relay that carries the same octets with the same
// cryptography and joined packets, and does nothing else; both in units of one AES-256-GCM seal of 1,400 octets in the same run.

// machineSide is the side of a gateway that has a kernel: a TUN device in a network namespace of its own, from which the kernel forwards to
// another device that nobody reads, or from which that one's packets come.
type machineSide struct {
	*tun.Device
	far *tun.Device
	g   atomic.Pointer[gateway.Gateway]
}

func (m *machineSide) Apply(inside.Desired) inside.Observed      { return inside.Observed{Port: "bench"} }
func (m *machineSide) Observed() inside.Observed                 { return inside.Observed{Port: "bench"} }
func (m *machineSide) Answer(netip.Addr, bool)                   {}
func (m *machineSide) Refuses(inside.Desired) error              { return nil }
func (m *machineSide) Forget([]inside.Flow)                      {}
func (m *machineSide) Lookup(netip.Addr) (inside.Looked, bool)   { return inside.Looked{}, false }
func (m *machineSide) Preview(inside.Desired) inside.Preview     { return inside.Preview{} }
func (m *machineSide) Leaves(inside.Flow) (netip.AddrPort, bool) { return netip.AddrPort{}, false }

func (m *machineSide) Send(batch []gateway.Frame) {
	m.WriteAll(func(yield func([]byte) bool) {
		for i := range batch {
			if !yield(batch[i].Bytes()) {
				return
			}
		}
	})
}

// openSide makes the devices: people are 172.16.0.0/12, inside is 10.0.0.0/8.
func openSide(b testing.TB, plain, plainFar bool) *machineSide {
	if os.Getuid() != 0 {
		if os.Getenv("CI") != "" {
			b.Fatal("it needs root, for a TUN device in a network namespace")
		}
		b.Skip("it needs root, for a TUN device in a network namespace")
	}
	m := &machineSide{}
	made := make(chan error)
	go func() {
		runtime.LockOSThread() // and ends with it: the namespace stays as long as its devices are open
		made <- func() (err error) {
			if err = unix.Unshare(unix.CLONE_NEWNET); err != nil {
				return err
			}
			if m.Device, err = tun.Open("near", plain); err != nil {
				return err
			}
			if m.far, err = tun.Open("far", plainFar); err != nil {
				return err
			}
			for _, x := range []struct{ name, to string }{{"near", "172.16.0.0/12"}, {"far", "10.0.0.0/8"}} {
				l, err := netlink.LinkByName(x.name)
				if err != nil {
					return err
				}
				to, _ := netlink.ParseIPNet(x.to)
				for _, err := range []error{netlink.LinkSetMTU(l, 1500), netlink.LinkSetTxQLen(l, 5000), netlink.LinkSetUp(l), netlink.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: to})} {
					if err != nil {
						return err
					}
				}
			}
			return os.WriteFile("/proc/sys/net/ipv4/ip_forward", []byte("1"), 0)
		}()
		select {}
	}()
	require.NoError(b, <-made)
	b.Cleanup(func() { m.Device.Close(); m.far.Close() })
	return m
}

// receive hands what comes from the kernel to the gateway.
func (m *machineSide) receive() {
	for batch := m.Batch(); ; {
		n, err := m.Read(batch)
		if err != nil {
			return
		}
		m.g.Load().FromInside(batch[:n], false)
	}
}

// spent is the processor time of the whole process, and of this thread.
func spent() (process, thread time.Duration) {
	var r unix.Rusage
	of := func(who int) time.Duration {
		_ = unix.Getrusage(who, &r)
		return time.Duration(r.Utime.Nano() + r.Stime.Nano())
	}
	return of(unix.RUSAGE_SELF), of(unix.RUSAGE_THREAD)
}

// unit is how long one AES-256-GCM seal of 1,400 octets takes now.
func unit() time.Duration {
	gcm := relayCipher()
	b, nonce := make([]byte, 1400, 1500), make([]byte, 12)
	_, was := spent()
	for range 20_000 {
		gcm.Seal(b[:0], nonce, b[:1400], nil)
	}
	_, is := spent()
	return (is - was) / 20_000
}

// lane is a way for packets: feed sends some, and gives how many; came is how many have come through.
type lane struct {
	name string
	feed func() int
	came func() uint64
}

// rounds is how often each of several lanes is measured, in turn: what a shared machine does meanwhile falls on all of them.
const rounds = 7

// cost is what a packet of a lane costs beside what feeds it.
func (l lane) cost(b *testing.B, packets int) time.Duration {
	first := l.came()
	process, thread := spent()
	sent := 0
	for sent < packets {
		sent += l.feed()
		for wait := 0; uint64(sent)-(l.came()-first) > 700; wait++ {
			if time.Sleep(50 * time.Microsecond); wait > 20_000 {
				b.Fatalf("%s: %d of %d packets came through", l.name, l.came()-first, sent)
			}
		}
	}
	for wait := 0; l.came()-first < uint64(sent); wait++ {
		if time.Sleep(50 * time.Microsecond); wait > 20_000 {
			b.Fatalf("%s: %d of %d packets came through", l.name, l.came()-first, sent)
		}
	}
	processIs, threadIs := spent()
	return (processIs - process - (threadIs - thread)) / time.Duration(sent)
}

// compare measures lanes in turn, and tells each one's median in nanoseconds and units, and what the others cost of the last, the relay:
// its part of theirs, in hundredths, with the spread of the rounds.
func compare(b *testing.B, packets int, lanes ...lane) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	for b.Loop() {
		costs, parts := make([][]float64, len(lanes)), make([][]float64, len(lanes))
		var units []float64
		for range rounds {
			now := make([]float64, len(lanes))
			one := float64(unit())
			for i, l := range lanes {
				now[i] = float64(l.cost(b, packets))
			}
			one = (one + float64(unit())) / 2
			units = append(units, one)
			for i := range lanes {
				costs[i] = append(costs[i], now[i])
				parts[i] = append(parts[i], 100*now[len(now)-1]/now[i])
			}
		}
		slices.Sort(units)
		for i, l := range lanes {
			slices.Sort(costs[i])
			slices.Sort(parts[i])
			b.ReportMetric(costs[i][rounds/2], l.name+"-ns")
			b.ReportMetric(costs[i][rounds/2]/units[rounds/2], l.name+"-units")
			if i < len(lanes)-1 {
				b.ReportMetric(parts[i][rounds/2], l.name+"-%")
				b.ReportMetric(parts[i][1], l.name+"-least-%")
				b.ReportMetric(parts[i][rounds-2], l.name+"-most-%")
			}
		}
		b.ReportMetric(units[rounds/2], "unit-ns")
		b.ReportMetric(0, "ns/op")
	}
}

// stream4 makes packets of one TCP flow that follow each other.
type stream4 struct {
	src, dst netip.Addr
	port, to uint16
	ident    uint16
	sequence uint32
}

func (s *stream4) put(b []byte) {
	clear(b[:40])
	b[0], b[6], b[8], b[9] = 0x45, 0x40, 64, 6
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	binary.BigEndian.PutUint16(b[4:], s.ident)
	copy(b[12:], s.src.AsSlice())
	copy(b[16:], s.dst.AsSlice())
	binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:20], 0))
	t := b[20:]
	binary.BigEndian.PutUint16(t, s.port)
	binary.BigEndian.PutUint16(t[2:], s.to)
	binary.BigEndian.PutUint32(t[4:], s.sequence)
	t[12], t[13], t[14] = 0x50, 0x10, 0x7f
	binary.BigEndian.PutUint16(t[16:], packet.Checksum(t, packet.PseudoSum(b, 6, len(t))))
	s.ident++
	s.sequence += uint32(len(t) - 20)
}

const burst = 44 // datagrams that a device sends by one system call

// feeder seals a burst of a device's packets, and sends it by one system call.
func feeder(b *testing.B, d *handset, s *stream4, size int) func() int {
	plain := make([]byte, 2048)
	whole := make([]byte, 0, 1<<16)
	c, err := net.DialUDP("udp4", d.conn.LocalAddr().(*net.UDPAddr), net.UDPAddrFromAddrPort(d.natt))
	if err != nil { // the device's own socket has the port
		_ = d.conn.Close()
		c, err = net.DialUDP("udp4", d.conn.LocalAddr().(*net.UDPAddr), net.UDPAddrFromAddrPort(d.natt))
		require.NoError(b, err)
	}
	b.Cleanup(func() { _ = c.Close() })
	return func() int {
		whole = whole[:0]
		each := 0
		for range burst {
			s.put(plain[24 : 24+size])
			out, err := d.sealer.Seal(plain, 24, size)
			if err != nil {
				b.Fatal(err)
			}
			each = len(out)
			whole = append(whole, out...)
		}
		sendJoined(b, c, whole, each)
		return burst
	}
}

// up is the lane of one session's packets of a size through a gateway, from UDP to TUN.
func up(b *testing.B, name string, size int, plain bool) lane {
	side := openSide(b, plain, false)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", plain))
	b.Cleanup(socks.Close)
	w := startWith(b, socks, side)
	side.g.Store(w.g)
	d := w.device(b, "user00000")
	s := &stream4{src: d.given.Addresses[0], dst: netip.MustParseAddr("10.0.0.53"), port: 40000, to: 9}
	return lane{name, feeder(b, d, s, size), func() uint64 { return w.g.Sessions()[0].InPackets }}
}

// relayedUp is the same by a relay.
func relayedUp(b *testing.B, size int) lane {
	side := openSide(b, false, false)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", false))
	b.Cleanup(socks.Close)
	var came atomic.Uint64
	go relayUp(socks.natt, side.Device, &came)
	c, err := net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(socks.NATT()))
	require.NoError(b, err)
	gcm := relayCipher()
	s := &stream4{src: netip.MustParseAddr("172.16.0.9"), dst: netip.MustParseAddr("10.0.0.53"), port: 40000, to: 9}
	whole, seq := make([]byte, 0, 1<<16), uint64(0)
	return lane{"relay", func() int {
		whole = whole[:0]
		for range burst {
			seq++
			at := len(whole)
			whole = whole[:at+16+size+16]
			binary.BigEndian.PutUint64(whole[at:], 1)
			binary.BigEndian.PutUint64(whole[at+8:], seq)
			s.put(whole[at+16 : at+16+size])
			relaySeal(gcm, whole[at:], size)
		}
		sendJoined(b, c, whole, 16+size+16)
		return burst
	}, came.Load}
}

// BenchmarkUp measures packets of one session on their way from UDP to TUN.
func BenchmarkUp(b *testing.B) {
	for _, size := range []int{1400, 64} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			compare(b, 60_000, up(b, "joined", size, false), up(b, "plain", size, true), relayedUp(b, size))
		})
	}
}

func relayCipher() cipher.AEAD {
	block, _ := aes.NewCipher(make([]byte, 32))
	gcm, _ := cipher.NewGCM(block)
	return gcm
}

func relaySeal(gcm cipher.AEAD, b []byte, n int) {
	var nonce [12]byte
	copy(nonce[4:], b[8:16])
	gcm.Seal(b[16:16], nonce[:], b[16:16+n], b[:8])
}

// relayUp opens what comes and hands it on as one packet for each call of the kernel's, whose segments are taken to follow each other.
func relayUp(from *socket, to *tun.Device, came *atomic.Uint64) {
	gcm := relayCipher()
	var plain [][]byte
	var nonce [12]byte
	_ = from.read(func(batch []datagram) {
		plain = plain[:0]
		for _, d := range batch {
			copy(nonce[4:], d.data[8:16])
			if out, err := gcm.Open(d.data[16:16], nonce[:], d.data[16:], d.data[:8]); err == nil {
				plain = append(plain, out)
			}
		}
		to.WriteAll(slices.Values(plain))
		came.Add(uint64(len(batch)))
	})
}

// fromKernel feeds a side's kernel with packets that follow each other, joined, as another device hands them over.
func (m *machineSide) fromKernel(s *stream4, size int) func() int {
	plain := make([][]byte, burst)
	for i := range plain {
		plain[i] = make([]byte, size)
	}
	return func() int {
		for i := range plain {
			s.put(plain[i])
		}
		m.far.WriteAll(slices.Values(plain))
		return burst
	}
}

// down is the lane of packets to one session through a gateway, from TUN to UDP.
func down(b *testing.B, name string, size int, plain bool) lane {
	side := openSide(b, plain, false)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", plain))
	b.Cleanup(socks.Close)
	w := startWith(b, socks, side)
	side.g.Store(w.g)
	go side.receive()
	d := w.device(b, "user00000")
	mine, names := d.given.Addresses[0], netip.MustParseAddr("10.0.0.53")
	first := make([]byte, 60) // the device opens the flow
	(&stream4{src: mine, dst: names, port: 40000, to: 9}).put(first)
	d.send(first, d.conn)
	require.Eventually(b, func() bool { return w.g.Status().Flows == 1 }, time.Second, time.Millisecond)
	s := &stream4{src: names, dst: mine, port: 9, to: 40000}
	return lane{name, side.fromKernel(s, size), func() uint64 { return w.g.Sessions()[0].OutPackets }}
}

// relayedDown is the same by a relay.
func relayedDown(b *testing.B, size int) lane {
	side := openSide(b, false, false)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", false))
	b.Cleanup(socks.Close)
	to, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(b, err)
	b.Cleanup(func() { _ = to.Close() })
	var came atomic.Uint64
	go relayDown(side.Device, socks.natt, to.LocalAddr().(*net.UDPAddr).AddrPort(), &came)
	s := &stream4{src: netip.MustParseAddr("10.0.0.53"), dst: netip.MustParseAddr("172.16.0.9"), port: 9, to: 40000}
	return lane{"relay", side.fromKernel(s, size), came.Load}
}

// BenchmarkDown measures packets to one session on their way from TUN to UDP, as a kernel hands them over: joined.
func BenchmarkDown(b *testing.B) {
	for _, size := range []int{1400, 64} {
		b.Run(fmt.Sprint(size), func(b *testing.B) {
			compare(b, 60_000, down(b, "joined", size, false), down(b, "plain", size, true), relayedDown(b, size))
		})
	}
}

// relayDown cuts what comes from the kernel, seals it, and sends it on by one call of the kernel's.
func relayDown(from *tun.Device, to *socket, peer netip.AddrPort, came *atomic.Uint64) {
	gcm := relayCipher()
	whole, seq := make([]byte, 0, 1<<16), uint64(0)
	for batch := from.Batch(); ; {
		n, err := from.Read(batch)
		if err != nil {
			return
		}
		for _, p := range batch[:n] {
			shape, err := segment.ShapeOf(p.Bytes(), max(p.Each, 1))
			if err != nil || p.Each == 0 {
				continue
			}
			whole = whole[:0]
			for i := range shape.Count() {
				at, size := len(whole), shape.Len(i)
				whole = whole[:at+16+size+16]
				seq++
				binary.BigEndian.PutUint64(whole[at:], 1)
				binary.BigEndian.PutUint64(whole[at+8:], seq)
				shape.Put(i, whole[at+16:at+16+size])
				relaySeal(gcm, whole[at:], size)
			}
			_ = to.sendCut(whole, 16+shape.Len(0)+16, peerAt(peer))
			came.Add(uint64(shape.Count()))
		}
	}
}

func peerAt(a netip.AddrPort) ike.Peer { return ike.Peer{Addr: a, NATT: true} }
