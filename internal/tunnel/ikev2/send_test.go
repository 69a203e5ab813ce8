package ikev2

import (
	"testing"

	"yellowlantern/internal/core/inside"
)

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
