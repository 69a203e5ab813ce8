package packet

import (
	"encoding/binary"

	"yellowlantern/internal/core/netset"
)

// Ends recognise packets of one TCP or UDP flow by their octets, for a fraction of what it takes to read them.
type Ends struct {
	first     byte     // of an IPv4 packet without options, or an IPv6 packet
	proto     byte     // 0: they recognise none
	addresses [36]byte // and ports: of IPv4 the first 12
}

// EndsOf are a packet's. They recognise none where it is no whole TCP or UDP packet, or has IPv4 options or IPv6 extension headers.
func EndsOf(b []byte, i Info) (e Ends) {
	if i.Fragment || i.Proto != netset.TCP && i.Proto != netset.UDP {
		return Ends{}
	}
	switch {
	case i.Src.Is4() && i.Transport == headerIPv4:
		e.first = 0x45
		copy(e.addresses[:], b[12:24])
	case i.Src.Is6() && i.Transport == headerIPv6:
		e.first = 0x60
		copy(e.addresses[:], b[8:44])
	default:
		return Ends{}
	}
	e.proto = i.Proto
	return e
}

// Have reads a packet that goes the same way between the same ends: how many octets it has and, of TCP, its flags. It says so only of one
// that Parse finds no fault with.
func (e *Ends) Have(b []byte) (size int, flags uint8, ok bool) {
	if len(b) < headerIPv4+8 || e.proto == 0 {
		return 0, 0, false
	}
	t := headerIPv4
	if e.first == 0x45 {
		size = int(binary.BigEndian.Uint16(b[2:]))
		if b[0] != 0x45 || b[9] != e.proto || binary.BigEndian.Uint16(b[6:])&0x3fff != 0 ||
			[12]byte(b[12:24]) != [12]byte(e.addresses[:12]) {
			return 0, 0, false
		}
	} else {
		t = headerIPv6
		if len(b) < headerIPv6+8 || b[0]>>4 != 6 || b[6] != e.proto || [36]byte(b[8:44]) != e.addresses {
			return 0, 0, false
		}
		size = headerIPv6 + int(binary.BigEndian.Uint16(b[4:]))
	}
	need := 8
	if e.proto == netset.TCP {
		need = tcpFixed
	}
	if size > len(b) || size < t+need {
		return 0, 0, false
	}
	if e.proto == netset.TCP {
		flags = b[t+13]
	}
	return size, flags, true
}
