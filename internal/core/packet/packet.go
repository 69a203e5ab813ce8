// Package packet reads and alters IPv4 and IPv6 packets with TCP, UDP and ICMP inside as far as forwarding needs it, in
// place and without allocation, and writes the ICMP answers that a router gives.
package packet

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"yellowlantern/internal/core/netset"
)

// ErrMalformed is a packet that contradicts itself or is cut short.
var ErrMalformed = errors.New("packet: malformed")

// TCP flags that forwarding looks at.
const (
	FIN = 0x01
	SYN = 0x02
	RST = 0x04
)

// Info is what a packet's headers say.
type Info struct {
	Src, Dst         netip.Addr
	Proto            uint8
	HopLimit         uint8
	Fragment         bool // part of a larger packet
	DontFragment     bool
	Size             int // of the packet, in octets
	Transport        int // where the transport header begins
	SrcPort, DstPort uint16
	Kind, Code       uint8  // ICMP
	Ident            uint16 // ICMP echo and timestamp
	Flags            uint8  // TCP
}

// Parse reads a packet's headers. Octets behind the length that it tells are not part of it: the caller cuts at Size.
func Parse(b []byte) (Info, error) {
	if len(b) < 20 {
		return Info{}, ErrMalformed
	}
	var i Info
	switch b[0] >> 4 {
	case 4:
		ihl := int(b[0]&15) * 4
		i.Size = int(binary.BigEndian.Uint16(b[2:]))
		if ihl < 20 || i.Size < ihl || i.Size > len(b) {
			return i, ErrMalformed
		}
		frag := binary.BigEndian.Uint16(b[6:])
		i.Fragment, i.DontFragment = frag&0x3fff != 0, frag&0x4000 != 0
		i.HopLimit, i.Proto, i.Transport = b[8], b[9], ihl
		i.Src, i.Dst = netip.AddrFrom4([4]byte(b[12:16])), netip.AddrFrom4([4]byte(b[16:20]))
	case 6:
		if len(b) < 40 {
			return i, ErrMalformed
		}
		i.Size = 40 + int(binary.BigEndian.Uint16(b[4:]))
		if i.Size > len(b) {
			return i, ErrMalformed
		}
		i.HopLimit, i.Proto, i.Transport, i.DontFragment = b[7], b[6], 40, true
		i.Src, i.Dst = netip.AddrFrom16([16]byte(b[8:24])), netip.AddrFrom16([16]byte(b[24:40]))
		if err := i.extensions(b); err != nil {
			return i, err
		}
	default:
		return i, ErrMalformed
	}
	return i, i.transport(b[:i.Size])
}

// extensions steps over IPv6 extension headers (RFC 8200 §4).
func (i *Info) extensions(b []byte) error {
	for range 8 {
		switch i.Proto {
		case 0, 43, 60: // hop-by-hop, routing, destination options
			if i.Transport+8 > i.Size {
				return ErrMalformed
			}
			i.Proto, i.Transport = b[i.Transport], i.Transport+8+int(b[i.Transport+1])*8
		case 44: // fragment
			i.Fragment = true
			return nil
		default:
			return nil
		}
	}
	return ErrMalformed
}

func (i *Info) transport(b []byte) error {
	if i.Fragment {
		return nil
	}
	need := 0
	switch i.Proto {
	case netset.TCP:
		need = 20
	case netset.UDP, netset.ICMP, netset.ICMPv6:
		need = 8
	}
	if i.Transport+need > len(b) {
		return ErrMalformed
	}
	t := b[i.Transport:]
	switch i.Proto {
	case netset.TCP:
		i.Flags = t[13]
		fallthrough
	case netset.UDP:
		i.SrcPort, i.DstPort = binary.BigEndian.Uint16(t), binary.BigEndian.Uint16(t[2:])
	case netset.ICMP, netset.ICMPv6:
		i.Kind, i.Code = t[0], t[1]
		i.Ident = binary.BigEndian.Uint16(t[4:])
	}
	return nil
}

// Service is the packet's service as netset has it.
func (i Info) Service() netset.Point {
	switch i.Proto {
	case netset.ICMP, netset.ICMPv6:
		return netset.ICMPPoint(i.Proto, i.Kind, i.Code)
	}
	return netset.PortPoint(i.Proto, i.DstPort)
}

// ICMPError tells whether the packet reports on another one.
func (i Info) ICMPError() bool {
	switch i.Proto {
	case netset.ICMP:
		return i.Kind == 3 || i.Kind == 11 || i.Kind == 12
	case netset.ICMPv6:
		return i.Kind < 128
	}
	return false
}

// EchoRequest tells whether the packet is a ping.
func (i Info) EchoRequest() bool {
	return i.Proto == netset.ICMP && i.Kind == 8 || i.Proto == netset.ICMPv6 && i.Kind == 128
}

// DecrementHopLimit takes one off the hop limit, which must not be zero.
func DecrementHopLimit(b []byte) {
	if b[0]>>4 == 6 {
		b[7]--
		return
	}
	old := binary.BigEndian.Uint16(b[8:])
	b[8]--
	put(b[10:], adjust(binary.BigEndian.Uint16(b[10:]), old, binary.BigEndian.Uint16(b[8:])))
}

// SetSrc replaces the source address, and the source port or ICMP identifier; SetDst the destination's. The address must be
// of the packet's family.
func SetSrc(b []byte, i *Info, a netip.Addr, port uint16) { rewrite(b, i, a, port, true) }

// SetDst replaces the destination address, and the destination port or ICMP identifier.
func SetDst(b []byte, i *Info, a netip.Addr, port uint16) { rewrite(b, i, a, port, false) }

func rewrite(b []byte, i *Info, a netip.Addr, port uint16, src bool) {
	at, size := 16, 4
	if b[0]>>4 == 6 {
		at, size = 24, 16
	}
	if src {
		at -= size
		i.Src = a
	} else {
		i.Dst = a
	}
	field := b[at : at+size]
	var old [16]byte
	copy(old[:], field)
	if size == 4 {
		v := a.As4()
		copy(field, v[:])
		put(b[10:], adjustAll(binary.BigEndian.Uint16(b[10:]), old[:4], field))
	} else {
		v := a.As16()
		copy(field, v[:])
	}
	sum, portAt := checksumAt(b, i), 0
	if i.Proto != netset.ICMP && sum != nil { // ICMPv4 has no pseudo-header
		put(sum, adjustAll(binary.BigEndian.Uint16(sum), old[:size], field))
	}
	switch i.Proto {
	case netset.TCP, netset.UDP:
		if portAt = i.Transport; !src {
			portAt += 2
		}
	case netset.ICMP, netset.ICMPv6:
		portAt = i.Transport + 4
	default:
		return
	}
	was := binary.BigEndian.Uint16(b[portAt:])
	put(b[portAt:], port)
	if sum != nil {
		put(sum, adjust(binary.BigEndian.Uint16(sum), was, port))
	}
	switch {
	case i.Proto == netset.ICMP || i.Proto == netset.ICMPv6:
		i.Ident = port
	case src:
		i.SrcPort = port
	default:
		i.DstPort = port
	}
}

// checksumAt is the transport checksum's place; nil if there is none (an IPv4 UDP packet may go without).
func checksumAt(b []byte, i *Info) []byte {
	at := map[uint8]int{netset.TCP: 16, netset.UDP: 6, netset.ICMP: 2, netset.ICMPv6: 2}[i.Proto]
	if at == 0 || i.Transport+at+2 > len(b) {
		return nil
	}
	sum := b[i.Transport+at:][:2]
	if i.Proto == netset.UDP && sum[0] == 0 && sum[1] == 0 {
		return nil
	}
	return sum
}

func put(b []byte, v uint16) { binary.BigEndian.PutUint16(b, v) }

// adjust changes a checksum for one word (RFC 1624 §3, equation 3).
func adjust(sum, old, now uint16) uint16 {
	s := uint32(^sum) + uint32(^old) + uint32(now)
	s = s&0xffff + s>>16
	return ^uint16(s + s>>16)
}

func adjustAll(sum uint16, old, now []byte) uint16 {
	for k := 0; k < len(old); k += 2 {
		sum = adjust(sum, binary.BigEndian.Uint16(old[k:]), binary.BigEndian.Uint16(now[k:]))
	}
	return sum
}
