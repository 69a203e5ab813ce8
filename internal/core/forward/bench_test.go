package forward

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"testing"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/bigplan"
)

// BenchmarkKnownFlow compares what a packet of a known flow costs in forwarding with what opening its ESP costs, for 1,400 octets inwards.
func BenchmarkKnownFlow(b *testing.B) {
	plain := tcp(warden, office, 40000, 443, 0x10, 1400)
	b.Run("esp-open", func(b *testing.B) {
		key := make([]byte, esp.AES256GCM.KeyLen())
		const ring = 1 << 10
		sealed := make([][]byte, ring)
		sealer, err := esp.NewSealer(1000, esp.AES256GCM, key)
		if err != nil {
			b.Fatal(err)
		}
		for i := range sealed {
			buf := make([]byte, esp.Headroom+len(plain)+esp.Tailroom)
			copy(buf[esp.Headroom:], plain)
			if sealed[i], err = sealer.Seal(buf, esp.Headroom, len(plain)); err != nil {
				b.Fatal(err)
			}
		}
		scratch := make([]byte, len(sealed[0]))
		opener, _ := esp.NewOpener(1000, esp.AES256GCM, key)
		b.ReportAllocs()
		n := 0
		for b.Loop() {
			if n == ring {
				n, opener = 0, must(esp.NewOpener(1000, esp.AES256GCM, key))
			}
			copy(scratch, sealed[n])
			if _, _, err := opener.Open(scratch); err != nil {
				b.Fatal(err)
			}
			n++
		}
	})
	b.Run("forward", func(b *testing.B) {
		e, s := engine(b)
		if r := e.FromTunnel(s, tcp(warden, office, 40000, 443, 2, 60), noon); r.Inside == nil {
			b.Fatal(r)
		}
		scratch := make([]byte, len(plain))
		b.ReportAllocs()
		for b.Loop() {
			copy(scratch, plain)
			if r := e.FromTunnel(s, scratch, noon); r.Inside == nil {
				b.Fatal(r)
			}
		}
	})
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// BenchmarkNewFlow opens flows of a class that 20 or 2,000 rules are about, each to another port or host: what the first packet of a flow
// costs in forwarding, and what its rules do of that. Sessions come anew when they have as many flows as one may have; that is counted too.
func BenchmarkNewFlow(b *testing.B) {
	for _, rules := range []int{20, 2000} {
		size := bigplan.Base
		size.Rules = rules
		p, _ := bigplan.Make(size)
		for i := range p.Rules {
			p.Rules[i].Groups, p.Rules[i].Log = nil, false
		}
		m, err := site.Compile(p, "gw")
		if err != nil {
			b.Fatal(err)
		}
		groups := p.Passages[0].Groups
		class := m.Class(groups).Ready()
		from := class.Passage.Pool[0].From
		var wanted []site.Packet // that are let in
		for i := range 1 << 16 {
			x := site.Packet{Src: from, Dst: p.Hosts[i%len(p.Hosts)].Addresses[0], Service: netset.PortPoint(6, uint16(1+i%2000))}
			if i%3 == 0 {
				x.Service = netset.PortPoint(6, []uint16{22, 25, 80, 443, 445}[i%5])
			}
			if _, ok, _ := m.Permits(class, x, site.At(noon)); ok {
				wanted = append(wanted, x)
			}
		}
		b.Run(fmt.Sprintf("%d/rules-alone", rules), func(b *testing.B) {
			b.ReportAllocs()
			for n := 0; b.Loop(); n++ {
				m.Permits(class, wanted[n%len(wanted)], site.At(noon))
			}
		})
		b.Run(fmt.Sprint(rules), func(b *testing.B) {
			e := New(m, &session.Table{})
			var s *Session
			id := uint64(0)
			packet := tcp(from, wanted[0].Dst, 1, 1, 2, 60)
			b.ReportAllocs()
			for n := 0; b.Loop(); n++ {
				if n%maxPerSession == 0 {
					if s != nil {
						e.Detach(s, reason.Of(reason.TrialOver, nil))
					}
					id++
					s = &Session{ID: id, User: "u", Groups: groups, Addresses: []netip.Addr{from}, MTU: 1400}
					e.Sessions.Add(s)
					e.Attach(s, nil)
				}
				x := wanted[n%len(wanted)]
				src, to := from.As4(), x.Dst.As4()
				copy(packet[12:], src[:]) // it was translated
				copy(packet[16:], to[:])
				binary.BigEndian.PutUint16(packet[20:], uint16(n))
				binary.BigEndian.PutUint16(packet[22:], x.Service.Port())
				packet[8] = 64
				if r := e.FromTunnel(s, packet, noon); r.Inside == nil {
					b.Fatal(r.Station)
				}
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "flows/s")
		})
	}
}
