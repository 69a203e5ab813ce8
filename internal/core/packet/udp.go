package packet

import (
	"net/netip"

	"yellowlantern/internal/core/netset"
)

// UDP writes a datagram as a packet.
func UDP(from, to netip.AddrPort, data []byte) []byte {
	body := make([]byte, 8, 8+len(data))
	put(body, from.Port())
	put(body[2:], to.Port())
	put(body[4:], uint16(8+len(data)))
	body = append(body, data...)
	addrs := append(from.Addr().AsSlice(), to.Addr().AsSlice()...)
	sum := Checksum(body, pseudo(addrs, len(body), netset.UDP))
	if sum == 0 { // zero means none (RFC 768)
		sum = 0xffff
	}
	put(body[6:], sum)
	if from.Addr().Is4() {
		b := make([]byte, 20, 20+len(body))
		b[0], b[6], b[8], b[9] = 0x45, 0x40, 64, netset.UDP
		put(b[2:], uint16(20+len(body)))
		copy(b[12:], addrs)
		put(b[10:], Checksum(b, 0))
		return append(b, body...)
	}
	b := make([]byte, 40, 40+len(body))
	b[0], b[6], b[7] = 0x60, netset.UDP, 64
	put(b[4:], uint16(len(body)))
	copy(b[8:], addrs)
	return append(b, body...)
}
