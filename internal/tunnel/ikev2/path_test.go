package ikev2

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"errors"
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

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/tun"
)

// A path of packets is measured in processor time of everything but what feeds it, beside a relay that carries the same octets with the
// same cryptography and joined packets, and does nothing else; both in units of one AES-256-GCM seal of 1,400 octets in the same run.

// machineSide is the side of a gateway that has a kernel: a TUN device in a network namespace of its own, from which the kernel forwards to
// another device that nobody reads, or from which that one's packets come.
type machineSide struct {
	*tun.Device
	far  *tun.Device
	g    atomic.Pointer[gateway.Gateway]
	n    atomic.Uint64 // packets that were handed to the kernel
	read atomic.Uint64 // and that came from it, and went to devices
}

func (m *machineSide) Apply(inside.Desired) inside.Observed { return inside.Observed{Port: "bench"} }

func (m *machineSide) Observed() inside.Observed                 { return inside.Observed{Port: "bench"} }
func (m *machineSide) Answer(netip.Addr, bool)                   {}
func (m *machineSide) Refuses(inside.Desired) error              { return nil }
func (m *machineSide) Forget([]inside.Flow)                      {}
func (m *machineSide) Lookup(netip.Addr) (inside.Looked, bool)   { return inside.Looked{}, false }
func (m *machineSide) Preview(inside.Desired) inside.Preview     { return inside.Preview{} }
func (m *machineSide) Leaves(inside.Flow) (netip.AddrPort, bool) { return netip.AddrPort{}, false }

func (m *machineSide) Send(batch []gateway.Frames) {
	m.WriteAll(func(yield func([]byte) bool) {
		for _, f := range batch {
			for i := range f.Packets {
				if !yield(f.Packets[i].Bytes()) {
					return
				}
			}
		}
	})
	for _, f := range batch {
		m.n.Add(uint64(len(f.Packets)))
	}
}

// openSide makes the devices: people are 172.0.0.0/8 and fd20::/16, inside is 10.0.0.0/8 and fd10::/16.
func openSide(b testing.TB, plain, plainFar bool, queues int) *machineSide {
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
			if m.Device, err = tun.Open("near", tun.How{Plain: plain, Queues: queues}); err != nil {
				return err
			}
			if m.far, err = tun.Open("far", tun.How{Plain: plainFar}); err != nil {
				return err
			}
			for _, x := range []struct{ name, to, six string }{{"near", "172.0.0.0/8", "fd20::/16"}, {"far", "10.0.0.0/8", "fd10::/16"}} {
				l, err := netlink.LinkByName(x.name)
				if err != nil {
					return err
				}
				to, _ := netlink.ParseIPNet(x.to)
				six, _ := netlink.ParseIPNet(x.six)
				for _, err := range []error{
					netlink.LinkSetMTU(l, 1500), netlink.LinkSetTxQLen(l, 5000),
					netlink.LinkSetUp(l), netlink.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: to}),
					netlink.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: six}),
				} {
					if err != nil {
						return err
					}
				}
			}
			return errors.Join(os.WriteFile("/proc/sys/net/ipv4/ip_forward", []byte("1"), 0),
				os.WriteFile("/proc/sys/net/ipv6/conf/all/forwarding", []byte("1"), 0))
		}()
		select {}
	}()
	require.NoError(b, <-made)
	b.Cleanup(func() { m.Device.Close(); m.far.Close() })
	return m
}

// receive hands what comes from the kernel to the gateway.
func (m *machineSide) receive(queue int) {
	for r := m.Reader(queue); ; {
		batch, err := r.Read()
		if err != nil {
			return
		}
		count := 0 // before they are sealed where they stand
		for _, p := range batch {
			if p.Buf[p.Off] != 0x45 { // what a kernel says by itself
				continue
			}
			if count++; p.Each > 0 {
				count += (p.Len-40+p.Each-1)/p.Each - 1
			}
		}
		m.g.Load().FromInside(batch, false)
		m.read.Add(uint64(count))
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
		for wait := 0; int64(sent)-int64(l.came()-first) > 700; wait++ {
			if time.Sleep(50 * time.Microsecond); wait > 20_000 {
				b.Fatalf("%s: %d of %d packets came through", l.name, l.came()-first, sent)
			}
		}
	}
	for wait := 0; int64(l.came()-first) < int64(sent); wait++ {
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

// upwards is a gateway with so many sessions, whose devices send.
func upwards(b *testing.B, people int, plain bool) (from []sender, came func() uint64) {
	side := openSide(b, plain, false, 1)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{Plain: plain, Workers: 1}))
	b.Cleanup(socks.Close)
	w := startWith(b, socks, side)
	side.g.Store(w.g)
	if people > 1 {
		w.crowd(b, people, 0)
	}
	from = make([]sender, people)
	w.logIn(b, people, func(i int, d *handset) {
		s := &stream4{src: d.given.Addresses[0], dst: names, port: 40000, to: 9}
		from[i] = sender{d.conn, net.UDPAddrFromAddrPort(d.natt), espSeals(b, d.sealer, s)}
	})
	return from, side.n.Load
}

// relayedUp is a relay to which the same sockets send.
func relayedUp(b *testing.B, those []sender) (from []sender, came func() uint64) {
	side := openSide(b, false, false, 1)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{Workers: 1}))
	b.Cleanup(socks.Close)
	var n atomic.Uint64
	go relayUp(socks.natt[0], side.Device, relayCiphers(len(those)), &n)
	for i := range those {
		s := &stream4{src: netip.AddrFrom4([4]byte{172, 16, byte(i >> 8), byte(i)}), dst: names, port: 40000, to: 9}
		from = append(from, sender{those[i].conn, net.UDPAddrFromAddrPort(socks.NATT()), relaySeals(s, i)})
	}
	return from, n.Load
}

// BenchmarkUp measures packets on their way from UDP to TUN: of one session, of one whose datagrams nothing joins, of 10,000 sessions of
// which each sends runs of 16, and where each datagram is another's.
func BenchmarkUp(b *testing.B) {
	for _, c := range []struct {
		name              string
		people, run, size int
		joined            bool
	}{
		{"1400", 1, burst, 1400, true},
		{"64", 1, burst, 64, true},
		{"unjoined-1400", 1, burst, 1400, false},
		{"10000-sessions-by-16", sized(10_000), 16, 1400, true},
		{"10000-sessions-by-1", sized(10_000), 1, 1400, true},
	} {
		b.Run(c.name, func(b *testing.B) {
			from, came := upwards(b, c.people, false)
			lanes := []lane{{"joined", fromMany(b, from, c.run, c.size, c.joined), came}}
			if c.people == 1 {
				from, came = upwards(b, c.people, true)
				lanes = append(lanes, lane{"plain", fromMany(b, from, c.run, c.size, c.joined), came})
			}
			from, came = relayedUp(b, from)
			compare(b, sized(60_000), append(lanes, lane{"relay", fromMany(b, from, c.run, c.size, c.joined), came})...)
		})
	}
}

// seals writes a run of packets back to back as one sender seals them, and gives how long each is.
type seals func(whole []byte, run, size int) (out []byte, each int)

// relaySeals seals for a relay, by a key of its own.
func relaySeals(s *stream4, spi int) seals {
	gcm, seq := relayCipher(), uint64(0)
	return func(whole []byte, run, size int) ([]byte, int) {
		for range run {
			seq++
			at := len(whole)
			whole = whole[:at+16+size+16]
			binary.BigEndian.PutUint64(whole[at:], uint64(spi)<<32)
			binary.BigEndian.PutUint64(whole[at+8:], seq)
			s.put(whole[at+16 : at+16+size])
			relaySeal(gcm, whole[at:], size)
		}
		return whole, 16 + size + 16
	}
}

// espSeals seals for a gateway.
func espSeals(b *testing.B, sealer *esp.Sealer, s *stream4) seals {
	plain := make([]byte, 2048)
	return func(whole []byte, run, size int) (_ []byte, each int) {
		for range run {
			s.put(plain[24 : 24+size])
			out, err := sealer.Seal(plain, 24, size)
			if err != nil {
				b.Fatal(err)
			}
			each = len(out)
			whole = append(whole, out...)
		}
		return whole, each
	}
}

// sender is somebody who sends runs of datagrams to a port.
type sender struct {
	conn  *net.UDPConn
	to    *net.UDPAddr
	seals seals
}

// fromMany feeds runs of packets, each of another sender. Where joined is false each datagram goes by itself and without a checksum, as
// systems' own clients send them: nothing joins those.
func fromMany(b *testing.B, from []sender, run, size int, joined bool) func() int {
	whole, next := make([]byte, 0, 1<<16), 0
	if !joined {
		for _, s := range from {
			raw := must(s.conn.SyscallConn())
			_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_NO_CHECK, 1) })
		}
	}
	return func() int {
		s := &from[next%len(from)]
		next++
		out, each := s.seals(whole[:0], run, size)
		if joined && run > 1 {
			sendJoinedTo(b, s.conn, out, each, s.to)
			return run
		}
		for len(out) > 0 {
			_, _ = s.conn.WriteToUDP(out[:each], s.to)
			out = out[each:]
		}
		return run
	}
}

func relayCipher() cipher.AEAD {
	block, _ := aes.NewCipher(make([]byte, 32))
	gcm, _ := cipher.NewGCM(block)
	return gcm
}

func relayCiphers(n int) (out []cipher.AEAD) {
	for range n {
		out = append(out, relayCipher())
	}
	return out
}

func relaySeal(gcm cipher.AEAD, b []byte, n int) {
	var nonce [12]byte
	copy(nonce[4:], b[8:16])
	gcm.Seal(b[16:16], nonce[:], b[16:16+n], b[:8])
}

// relayUp opens what comes and hands it on as one packet for each call of the kernel's, whose segments are taken to follow each other.
func relayUp(from *socket, to *tun.Device, by []cipher.AEAD, came *atomic.Uint64) {
	var plain [][]byte
	var nonce [12]byte
	_ = from.read(func(batch []datagram) {
		plain = plain[:0]
		for _, d := range batch {
			copy(nonce[4:], d.data[8:16])
			if out, err := by[binary.BigEndian.Uint32(d.data)].Open(d.data[16:16], nonce[:], d.data[16:], d.data[:8]); err == nil {
				plain = append(plain, out)
			}
		}
		to.WriteAll(slices.Values(plain))
		came.Add(uint64(len(batch)))
	})
}

// fromKernel feeds a side's kernel with runs of packets, each run of another flow, joined as another device hands them over.
func (m *machineSide) fromKernel(flows []stream4, run, size int) func() int {
	plain := make([][]byte, run)
	for i := range plain {
		plain[i] = make([]byte, size)
	}
	next := 0
	return func() int {
		s := &flows[next%len(flows)]
		next++
		for i := range plain {
			s.put(plain[i])
		}
		m.far.WriteAll(slices.Values(plain))
		return run
	}
}

// names is a host inside.
var names = netip.MustParseAddr("10.0.0.53")

// downwards is a gateway with so many sessions to which a kernel sends.
func downwards(b *testing.B, people, run, size int, plain bool) (feed func() int, came func() uint64, devices []ike.Peer) {
	side := openSide(b, plain, false, 1)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{Plain: plain, Workers: 1}))
	b.Cleanup(socks.Close)
	w := startWith(b, socks, side)
	side.g.Store(w.g)
	go side.receive(0)
	if people > 1 {
		w.crowd(b, people, 0)
	}
	flows := make([]stream4, people)
	devices = make([]ike.Peer, people)
	w.logIn(b, people, func(i int, d *handset) {
		mine, first := d.given.Addresses[0], make([]byte, 60) // the device opens the flow
		(&stream4{src: mine, dst: names, port: 40000, to: 9}).put(first)
		d.send(first, d.conn)
		flows[i] = stream4{src: names, dst: mine, port: 9, to: 40000}
		devices[i] = ike.Peer{Addr: d.conn.LocalAddr().(*net.UDPAddr).AddrPort(), NATT: true}
		_ = d.conn.SetReadBuffer(4096) // nobody reads
	})
	require.Eventually(b, func() bool { return w.g.Status().Flows == people }, 5*time.Second, 10*time.Millisecond)
	return side.fromKernel(flows, run, size), side.read.Load, devices
}

// relayedDown is the same by a relay, to the same sockets.
func relayedDown(b *testing.B, devices []ike.Peer, run, size int) (feed func() int, came func() uint64) {
	side := openSide(b, false, false, 1)
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{Workers: 1}))
	b.Cleanup(socks.Close)
	flows := make([]stream4, len(devices))
	for i := range flows {
		flows[i] = stream4{src: names, dst: netip.AddrFrom4([4]byte{172, 16, byte(i >> 8), byte(i)}), port: 9, to: 40000}
	}
	var n atomic.Uint64
	go relayDown(side.Device, socks.natt[0], devices, relayCiphers(len(devices)), &n)
	return side.fromKernel(flows, run, size), n.Load
}

// BenchmarkDown measures packets on their way from TUN to UDP as BenchmarkUp does the other way round.
func BenchmarkDown(b *testing.B) {
	for _, c := range []struct {
		name              string
		people, run, size int
	}{
		{"1400", 1, burst, 1400},
		{"64", 1, burst, 64},
		{"10000-sessions-by-16", sized(10_000), 16, 1400},
		{"10000-sessions-by-1", sized(10_000), 1, 1400},
	} {
		b.Run(c.name, func(b *testing.B) {
			feed, came, devices := downwards(b, c.people, c.run, c.size, false)
			lanes := []lane{{"joined", feed, came}}
			if c.people == 1 {
				feed, came, devices = downwards(b, c.people, c.run, c.size, true)
				lanes = append(lanes, lane{"plain", feed, came})
			}
			feed, came = relayedDown(b, devices, c.run, c.size)
			compare(b, sized(60_000), append(lanes, lane{"relay", feed, came})...)
		})
	}
}

// relayDown cuts what comes from the kernel, seals it, and sends it on by one call of the kernel's. Whose it is the address says.
func relayDown(from *tun.Device, to *socket, peers []ike.Peer, by []cipher.AEAD, came *atomic.Uint64) {
	whole, seq := make([]byte, 0, 1<<16), uint64(0)
	for r := from.Reader(0); ; {
		batch, err := r.Read()
		if err != nil {
			return
		}
		for _, p := range batch {
			b := p.Bytes()
			if b[0] != 0x45 { // what a kernel says by itself
				continue
			}
			whose := int(b[18])<<8 | int(b[19])
			if len(peers) == 1 {
				whose = 0
			}
			shape, err := segment.ShapeOf(b, max(p.Each, len(b)))
			if p.Each > 0 {
				shape, err = segment.ShapeOf(b, p.Each)
			}
			if err != nil {
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
				relaySeal(by[whose], whole[at:], size)
			}
			if shape.Count() == 1 {
				to.send(whole, peers[whose])
			} else {
				_ = to.sendCut(whole, 16+shape.Len(0)+16, peers[whose])
			}
			came.Add(uint64(shape.Count()))
		}
	}
}
