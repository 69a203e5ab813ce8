package ike

import (
	"net/netip"

	"golang.org/x/crypto/cryptobyte"

	"yellowlantern/internal/core/netset"
)

const (
	tsIPv4 = 7 // TS_IPV4_ADDR_RANGE (RFC 7296 §3.13.1)
	tsIPv6 = 8
	// maxSelectors bounds how many ranges are agreed; the count field has one octet.
	maxSelectors = 255
)

// selectors writes a set of addresses as traffic selectors for all protocols and ports.
func selectors(kind payloadType, set netset.Addrs) payload {
	if len(set) > maxSelectors {
		set = set[:maxSelectors]
	}
	return payload{kind: kind, body: build(func(b *cryptobyte.Builder) {
		b.AddUint8(uint8(len(set)))
		b.AddBytes([]byte{0, 0, 0})
		for _, s := range set {
			kind, length := uint8(tsIPv6), uint16(40)
			if s.From.Is4() {
				kind, length = tsIPv4, 16
			}
			b.AddUint8(kind)
			b.AddUint8(0)
			b.AddUint16(length)
			b.AddUint16(0)
			b.AddUint16(0xffff)
			b.AddBytes(s.From.AsSlice())
			b.AddBytes(s.To.AsSlice())
		}
	})}
}

// parseSelectors reads traffic selectors. One that is limited to a protocol or to ports, or of an unknown type, is
// left out: we agree on whole addresses only.
func parseSelectors(body []byte) (netset.Addrs, error) {
	s := cryptobyte.String(body)
	var count uint8
	if !s.ReadUint8(&count) || !s.Skip(3) {
		return nil, errMalformed
	}
	var spans []netset.Span
	for range count {
		var kind, proto uint8
		var length, from, to uint16
		if !s.ReadUint8(&kind) || !s.ReadUint8(&proto) || !s.ReadUint16(&length) || length < 8 ||
			!s.ReadUint16(&from) || !s.ReadUint16(&to) {
			return nil, errMalformed
		}
		var addrs []byte
		if !s.ReadBytes(&addrs, int(length)-8) {
			return nil, errMalformed
		}
		if size := map[uint8]int{tsIPv4: 4, tsIPv6: 16}[kind]; size == 0 {
			continue
		} else if len(addrs) != 2*size {
			return nil, errMalformed
		} else if proto == 0 && from == 0 && to == 0xffff {
			a, _ := netip.AddrFromSlice(addrs[:size])
			z, _ := netip.AddrFromSlice(addrs[size:])
			spans = append(spans, netset.Span{From: a, To: z})
		}
	}
	if !s.Empty() {
		return nil, errMalformed
	}
	return netset.OfSpans(spans...), nil
}
