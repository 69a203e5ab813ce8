// Package segment cuts packets that came as one, and joins those that may go as one, as kernels and network devices do it for TCP and UDP:
// one set of headers, and the payload of many. Whatever is cut again is, octet by octet, what was joined.
package segment

import (
	"encoding/binary"
	"errors"
	"fmt"

	"yellowlantern/internal/core/packet"
)

// HeaderLen is how many octets stand before a packet that a virtual device hands over (virtio 1.2 §5.1.6, without the number of buffers).
const HeaderLen = 10

// What the header says (virtio 1.2 §5.1.6.1).
const (
	flagNeedsChecksum = 1
	kindNone          = 0
	kindTCP4          = 1
	kindTCP6          = 4
	kindUDP           = 5
	kindECN           = 0x80 // beside one of TCP
)

var errHeader = errors.New("segment: the device's header contradicts the packet")

// Header is what a virtual device says of a packet, in the machine's order of octets, as Linux has it where no other is asked for.
type Header struct {
	flags, kind   byte
	head, each    uint16 // octets of all headers, and of each payload
	start, offset uint16 // where the checksum's octets begin, and where from there it stands
}

// ReadHeader reads one.
func ReadHeader(b []byte) Header {
	u := func(at int) uint16 { return binary.NativeEndian.Uint16(b[at:]) }
	return Header{b[0], b[1], u(2), u(4), u(6), u(8)}
}

// Put writes one.
func (h Header) Put(b []byte) {
	b[0], b[1] = h.flags, h.kind
	for i, v := range []uint16{h.head, h.each, h.start, h.offset} {
		binary.NativeEndian.PutUint16(b[2+2*i:], v)
	}
}

// Finish makes of a packet as a device hands it over one that is whole: where its checksum was left to be worked out, it is. each is how
// many octets of payload each packet has that was joined into it, 0 where it is one; those get their checksums when they are cut.
func (h Header) Finish(b []byte) (each int, err error) {
	switch h.kind &^ kindECN {
	case kindTCP4, kindTCP6, kindUDP:
		if h.each == 0 {
			return 0, errHeader
		}
		return int(h.each), nil
	case kindNone:
	default:
		return 0, fmt.Errorf("segment: kind %d of joined packets was not asked for", h.kind)
	}
	if h.flags&flagNeedsChecksum == 0 {
		return 0, nil
	}
	start, at := int(h.start), int(h.start)+int(h.offset)
	if at+2 > len(b) {
		return 0, errHeader
	}
	sum := packet.Checksum(b[start:], 0) // of the pseudo-header it holds what is to be added
	if sum == 0 {
		sum = 0xffff // UDP's 0 says that there is none (RFC 768); elsewhere both are the same
	}
	binary.BigEndian.PutUint16(b[at:], sum)
	return 0, nil
}
