package packet

import (
	"encoding/binary"
	"net/netip"

	"yellowlantern/internal/core/netset"
)

// Trouble is what a router has to tell a packet's sender.
type Trouble int

// Troubles, with their ICMPv4 (RFC 792, RFC 1812 §5.2.7.1) and ICMPv6 (RFC 4443 §3) messages below.
const (
	Prohibited Trouble = iota
	NoRoute
	TimeExceeded
	TooBig
)

var troubles = map[Trouble][2][2]uint8{
	Prohibited: {{3, 13}, {1, 1}}, NoRoute: {{3, 0}, {1, 0}}, TimeExceeded: {{11, 0}, {3, 0}}, TooBig: {{3, 4}, {2, 0}},
}

// Error writes the ICMP message about the packet b; from is the router's address, of the packet's family. mtu is told
// with TooBig. Nothing is said about an ICMP error, or to a source that is no single host (RFC 1122 §3.2.2); nil then.
func Error(b []byte, i Info, from netip.Addr, t Trouble, mtu int) []byte {
	if i.ICMPError() || !from.IsValid() || i.Src.IsUnspecified() || i.Src.IsMulticast() ||
		i.Src == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return nil
	}
	v6 := i.Src.Is6()
	quoted := b[:min(i.Size, i.Transport+8)] // what RFC 792 asks for at least
	if v6 {
		quoted = b[:min(i.Size, 1280-48)]
	} else if len(b) > len(quoted) {
		quoted = b[:min(i.Size, 576-28)]
	}
	body := make([]byte, 8+len(quoted))
	codes := troubles[t][0]
	if v6 {
		codes = troubles[t][1]
	}
	body[0], body[1] = codes[0], codes[1]
	if t == TooBig {
		if v6 {
			binary.BigEndian.PutUint32(body[4:], uint32(mtu))
		} else {
			put(body[6:], uint16(mtu))
		}
	}
	copy(body[8:], quoted)
	return Message(from, i.Src, body)
}

// EchoReply turns an echo request into its answer.
func EchoReply(b []byte, i Info) []byte {
	body := append([]byte{}, b[i.Transport:i.Size]...)
	body[0], body[2], body[3] = 0, 0, 0
	if i.Src.Is6() {
		body[0] = 129
	}
	return Message(i.Dst, i.Src, body)
}

// Message puts an ICMP message, its checksum still zero, into a packet.
func Message(src, dst netip.Addr, body []byte) []byte {
	if src.Is4() {
		put(body[2:], Checksum(body, 0))
		b := make([]byte, 20, 20+len(body))
		b[0], b[8], b[9] = 0x45, 64, netset.ICMP
		put(b[2:], uint16(20+len(body)))
		copy(b[12:], src.AsSlice())
		copy(b[16:], dst.AsSlice())
		put(b[10:], Checksum(b, 0))
		return append(b, body...)
	}
	b := make([]byte, 40, 40+len(body))
	b[0], b[6], b[7] = 0x60, netset.ICMPv6, 64
	put(b[4:], uint16(len(body)))
	copy(b[8:], src.AsSlice())
	copy(b[24:], dst.AsSlice())
	put(body[2:], Checksum(body, pseudo(b[8:40], len(body), netset.ICMPv6)))
	return append(b, body...)
}

// pseudo begins a checksum with the pseudo-header (RFC 8200 §8.1).
func pseudo(addrs []byte, length int, proto uint8) uint32 {
	return uint32(^Checksum(addrs, 0)) + uint32(length) + uint32(proto)
}

// Quoted reads the packet that an ICMP error reports on. As little as eight octets of its transport header may be there.
func Quoted(b []byte, i Info) (Info, []byte, error) {
	if i.Fragment || i.Transport+8 > i.Size {
		return Info{}, nil, ErrMalformed
	}
	q := b[i.Transport+8 : i.Size]
	if len(q) < 20 {
		return Info{}, nil, ErrMalformed
	}
	whole := make([]byte, max(len(q), 128)) // room for the headers that were cut off
	copy(whole, q)
	switch q[0] >> 4 {
	case 4:
		put(whole[2:], uint16(len(whole)))
	case 6:
		if len(q) < 40 {
			return Info{}, nil, ErrMalformed
		}
		put(whole[4:], uint16(len(whole)-40))
	}
	in, err := Parse(whole)
	if err == nil && in.Transport+8 > len(q) {
		err = ErrMalformed
	}
	return in, q, err
}

// SetQuoted replaces an address and port in the packet that an ICMP error quotes, and mends the checksum around it. src tells
// which end.
func SetQuoted(b []byte, i Info, a netip.Addr, port uint16, src bool) error {
	in, q, err := Quoted(b, i)
	if err != nil {
		return err
	}
	rewrite(q, &in, a, port, src)
	body := b[i.Transport:i.Size]
	body[2], body[3] = 0, 0
	begun := uint32(0)
	if i.Proto == netset.ICMPv6 {
		begun = pseudo(b[8:40], len(body), netset.ICMPv6)
	}
	put(body[2:], Checksum(body, begun))
	return nil
}

// EchoRequest writes a ping. data begins with identifier and sequence number.
func EchoRequest(src, dst netip.Addr, data []byte) []byte {
	kind := byte(8)
	if src.Is6() {
		kind = 128
	}
	return Message(src, dst, append([]byte{kind, 0, 0, 0}, data...))
}
