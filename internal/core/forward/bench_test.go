package forward

import (
	"testing"

	"yellowlantern/internal/core/esp"
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
