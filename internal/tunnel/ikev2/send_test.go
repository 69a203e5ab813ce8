package ikev2

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/session"
)

// numbered is a packet that says of which sender it is, and which of that one's.
func numbered(by byte, n uint32) inside.Packet {
	data := make([]byte, 60)
	data[0], data[1] = 0x45, by
	binary.BigEndian.PutUint32(data[2:], n)
	return inside.Roomy(data)
}

// Packets to several devices that are sent together come to each of them whole and in their order, and none overtakes another on the wire,
// while others send to the same devices. They leave from the address that was dialled.
func TestGathered(t *testing.T) {
	for _, c := range []struct {
		listen  string
		dialled []string
	}{{"127.0.0.1:0", []string{"127.0.0.1"}}, {"0.0.0.0:0", []string{"127.0.0.1", "127.0.0.77"}}, {"[::]:0", []string{"127.0.0.1", "127.0.0.77"}}} {
		t.Run(c.listen, func(t *testing.T) {
			s := must(Listen(c.listen, c.listen, How{Workers: 2}))
			t.Cleanup(s.Close)
			w := startOn(t, s)
			const people, packets = 6, 400
			var links []*link
			var devices sync.WaitGroup
			for i := range people {
				d := newDevice(t, s, w.set.Plan.Gateways[0].Dial, fmt.Sprintf("user%05d", i), password)
				at := netip.MustParseAddr(c.dialled[i%len(c.dialled)])
				d.ike, d.natt = netip.AddrPortFrom(at, s.IKE().Port()), netip.AddrPortFrom(at, s.NATT().Port())
				require.NoError(t, d.login())
				w.server.mu.Lock()
				for _, l := range w.server.links {
					if l.session.User == fmt.Sprintf("user%05d", i) {
						links = append(links, l)
					}
				}
				w.server.mu.Unlock()
				devices.Go(func() { gets(t, d, at, map[byte]uint32{1: packets, 2: packets}) })
			}
			require.Len(t, links, people)
			var sending sync.WaitGroup
			sending.Go(func() {
				var with session.Gathered
				next := make([]uint32, people)
				for range people * packets {
					i := rand.IntN(people)
					for next[i] == packets {
						i = (i + 1) % people
					}
					with = links[i].Gather(numbered(1, next[i]), with)
					next[i]++
					if with != nil && rand.IntN(40) == 0 {
						with.Flush()
						with = nil
						time.Sleep(time.Millisecond) // devices' sockets hold a few hundred
					}
				}
				if with != nil {
					with.Flush()
				}
			})
			sending.Go(func() {
				for n := uint32(0); n < packets; n += 2 {
					for _, l := range links {
						l.SendAll([]inside.Packet{numbered(2, n), numbered(2, n+1)})
					}
					time.Sleep(200 * time.Microsecond)
				}
			})
			sending.Wait()
			devices.Wait()
		})
	}
}

// gets reads what comes to a device until it has so many of each sender.
func gets(t *testing.T, d *handset, at netip.Addr, want map[byte]uint32) {
	got, last := map[byte]uint32{}, uint32(0)
	buf := make([]byte, 2048)
	for got[1] < want[1] || got[2] < want[2] {
		_ = d.conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		n, from, err := d.conn.ReadFromUDPAddrPort(buf)
		if err != nil || from.Addr() != at {
			t.Errorf("%v from %s after %v", err, from, got)
			return
		}
		b := buf[:n]
		spi := binary.BigEndian.Uint32(b)
		if d.opener[spi] == nil { // IKE
			continue
		}
		seq := binary.BigEndian.Uint32(b[4:])
		inner, _, err := d.opener[spi].Open(b)
		if err != nil || seq <= last {
			t.Errorf("%v: number %d came after %d", err, seq, last)
			return
		}
		last = seq
		by := inner[1]
		if n := binary.BigEndian.Uint32(inner[2:]); n != got[by] {
			t.Errorf("packet %d of sender %d came in place of %d", n, by, got[by])
			return
		}
		got[by]++
	}
}

// BenchmarkSend measures a packet of 1,400 octets on its way to a device, from the port's buffer to the socket: sealed where it stands, as
// a port with room around its packets has it, and copied first.
func BenchmarkSend(b *testing.B) {
	w := startBusy(b)
	w.device(b, "user00000")
	var to *link
	w.server.mu.Lock()
	for _, l := range w.server.links {
		to = l
	}
	w.server.mu.Unlock()
	data := make([]byte, 1400)
	data[0] = 0x45
	for _, c := range []struct {
		name string
		p    inside.Packet
	}{{"in-place", inside.Roomy(data)}, {"copied", inside.Bare(append([]byte{}, data...))}} {
		b.Run(c.name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				copy(c.p.Bytes(), data) // as it is read into the buffer
				to.Send(c.p)
			}
		})
	}
}
