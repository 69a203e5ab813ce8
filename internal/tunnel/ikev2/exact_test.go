package ikev2

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/segment"
)

// some makes packets of three flows, most of which follow each other.
func some(r *rand.Rand, src, dst netip.Addr, up bool) (out [][]byte) {
	type flow struct {
		stream4
		udp  bool
		each int
	}
	var flows [3]flow
	for i := range flows {
		f := &flows[i]
		f.stream4 = stream4{src: src, dst: dst, port: uint16(40000 + i), to: 9, ident: uint16(r.Uint32()), sequence: r.Uint32()}
		if f.udp, f.each = i == 2, []int{1, 32, 500, 1200, 1340}[r.IntN(5)]; !up {
			f.port, f.to = f.to, f.port
		}
	}
	f := &flows[0]
	for i := range 3 + r.IntN(150) {
		if i < 3 {
			f = &flows[i]
		} else if r.IntN(8) == 0 {
			f = &flows[r.IntN(3)]
		}
		n := f.each
		if r.IntN(12) == 0 {
			n = 1 + r.IntN(1340)
		}
		b := make([]byte, 40+n)
		for i := range b[40:] {
			b[40+i] = byte(r.Uint32())
		}
		f.put(b)
		t := b[20:]
		switch {
		case f.udp:
			f.sequence -= uint32(n)
			b[9] = 17
			binary.BigEndian.PutUint16(t[4:], uint16(len(t)))
			binary.BigEndian.PutUint16(t[6:], 0)
			binary.BigEndian.PutUint16(b[10:], 0)
			binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:20], 0))
			if r.IntN(6) > 0 { // otherwise it has none
				binary.BigEndian.PutUint16(t[6:], packet.Checksum(t, packet.PseudoSum(b, 17, len(t))))
			}
		case r.IntN(10) == 0: // PSH, ECE, another window
			t[13] |= []byte{8, 0x40, 0}[r.IntN(3)]
			t[15] = byte(r.IntN(3))
			binary.BigEndian.PutUint16(t[16:], 0)
			binary.BigEndian.PutUint16(t[16:], packet.Checksum(t, packet.PseudoSum(b, 6, len(t))))
		}
		out = append(out, b)
	}
	return out
}

// six makes IPv6 packets of what was made for IPv4.
func six(packets [][]byte, src, dst netip.Addr) (out [][]byte) {
	for _, four := range packets {
		t := slices.Clone(four[20:])
		b := append(make([]byte, 40, 40+len(t)), t...)
		b[0], b[3], b[6], b[7] = 0x60, 7, four[9], 64
		binary.BigEndian.PutUint16(b[4:], uint16(len(t)))
		copy(b[8:], src.AsSlice())
		copy(b[24:], dst.AsSlice())
		sum := b[40+16:]
		if b[6] == 17 {
			sum = b[40+6:]
		}
		binary.BigEndian.PutUint16(sum, 0)
		n := packet.Checksum(b[40:], packet.PseudoSum(b, b[6], len(t)))
		if n == 0 && b[6] == 17 {
			n = 0xffff // 0 is that there is none (RFC 8200 §8.1)
		}
		binary.BigEndian.PutUint16(sum, n)
		out = append(out, b)
	}
	return out
}

// theirs tells whether it is a packet of the test's, and not what a kernel says by itself.
func theirs(b []byte) bool {
	return len(b) > 40 && (b[0] == 0x45 || b[0] == 0x60 && (b[6] == 6 || b[6] == 17))
}

// byFlow sorts packets by their ports, each flow's in its order.
func byFlow(packets [][]byte) map[string][][]byte {
	out := map[string][][]byte{}
	for _, b := range packets {
		k := fmt.Sprintf("%d %x", b[9], b[20:24])
		if b[0]>>4 == 6 {
			k = fmt.Sprintf("v6 %d %x", b[6], b[40:44])
		}
		out[k] = append(out[k], b)
	}
	return out
}

// withSix gives people and what they reach IPv6 addresses too.
func withSix(p *plan.Plan) {
	for i := range p.Pools {
		p.Pools[i].Prefixes = append(p.Pools[i].Prefixes, netip.MustParsePrefix(fmt.Sprintf("fd20:%x::/112", i)))
	}
	p.Networks[0].Prefixes = append(p.Networks[0].Prefixes, netip.MustParsePrefix("fd10::/64"))
	p.Hosts[0].Addresses = append(p.Hosts[0].Addresses, netip.MustParseAddr("fd10::53"))
	at := &p.Gateways[0].Inside[0]
	at.Addresses = append(at.Addresses, netip.MustParseAddr("fd10::1"))
}

// hopped is what a router makes of packets.
func hopped(packets [][]byte) [][]byte {
	for _, b := range packets {
		packet.DecrementHopLimit(b)
	}
	return packets
}

// What goes through a gateway and a kernel comes out octet by octet as it went in, and in the order of its flow, but for the router's hop,
// both ways: joined or one by one at the tunnel's socket, at the TUN device, and at the kernel's other end, which cuts by itself what it is
// handed joined.
func TestPathIsExact(t *testing.T) {
	for _, plain := range []bool{false, true} {
		for _, plainFar := range []bool{false, true} {
			t.Run(fmt.Sprintf("plain-%v/far-plain-%v", plain, plainFar), func(t *testing.T) {
				r := rand.New(rand.NewPCG(5, 6))
				side := openSide(t, plain, plainFar, 2)
				socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{Plain: plain}))
				t.Cleanup(socks.Close)
				w := startWith(t, socks, side, withSix)
				side.g.Store(w.g)
				go side.receive(0)
				go side.receive(1)
				d := w.device(t, "user00000")
				roomy(d.conn)
				require.Len(t, d.given.Addresses, 2)
				mine, names := d.given.Addresses[0], netip.MustParseAddr("10.0.0.53")
				mine6, names6 := d.given.Addresses[1], netip.MustParseAddr("fd10::53")
				for n := range 60 {
					sent := some(r, mine, names, true)
					if n%2 == 1 {
						sent = six(sent, mine6, names6)
					}
					var whole []byte
					for i, b := range sent { // those that are alike in length by one system call, up to ten
						out := d.seal(b)
						whole = append(whole, out...)
						if i+1 == len(sent) || len(sent[i+1]) != len(b) || len(whole) >= 10*len(out) {
							sendTo(t, d, whole, len(out))
							whole = whole[:0]
						}
					}
					require.Equal(t, byFlow(hopped(sent)), byFlow(side.comes(t, len(sent))))

					sent = some(r, names, mine, false)
					if n%2 == 1 {
						sent = six(sent, names6, mine6)
					}
					side.far.WriteAll(slices.Values(clones(sent)))
					var got [][]byte
					for range sent {
						inner, ok := d.read(5 * time.Second)
						require.True(t, ok, "%d of %d came", len(got), len(sent))
						got = append(got, slices.Clone(inner))
					}
					require.Equal(t, byFlow(hopped(sent)), byFlow(got))
				}
			})
		}
	}
}

func clones(packets [][]byte) (out [][]byte) {
	for _, b := range packets {
		out = append(out, slices.Clone(b))
	}
	return out
}

// comes reads packets at the other end, those that come joined cut.
func (m *machineSide) comes(t testing.TB, n int) (out [][]byte) {
	r := m.far.Reader(0)
	defer r.Rest()
	for end := time.Now().Add(5 * time.Second); len(out) < n && time.Now().Before(end); {
		came := r.Poll()
		for _, p := range came {
			segmentEach(p, func(b []byte) {
				if theirs(b) {
					out = append(out, slices.Clone(b))
				}
			})
		}
		if len(came) == 0 {
			time.Sleep(time.Millisecond)
		}
	}
	require.Len(t, out, n)
	return out
}

func segmentEach(p inside.Packet, yield func([]byte)) {
	segment.Each(p, func(one inside.Packet) { yield(one.Bytes()) })
}

// sendTo sends datagrams of one length from a device's socket.
func sendTo(t testing.TB, d *handset, whole []byte, each int) {
	if len(whole) == each {
		_, err := d.conn.WriteToUDPAddrPort(whole, d.natt)
		require.NoError(t, err)
		return
	}
	sendJoinedTo(t, d.conn, whole, each, net.UDPAddrFromAddrPort(d.natt))
}
