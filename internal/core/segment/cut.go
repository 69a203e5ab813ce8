package segment

import (
	"encoding/binary"
	"errors"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

// TCP flags that only one of several segments has (RFC 9293 §3.1, RFC 3168 §6.1).
const (
	flagFIN = 0x01
	flagSYN = 0x02
	flagRST = 0x04
	flagPSH = 0x08
	flagACK = 0x10
	flagURG = 0x20
	flagCWR = 0x80
)

// ErrShape is a packet that cannot have been joined.
var ErrShape = errors.New("segment: what came as one cannot be cut")

// Extent is what was joined into a packet.
type Extent struct {
	Packets int
	Octets  int // of all of them, each with its headers
	Largest int // octets of the largest
}

// ExtentOf tells it of a packet into which several were joined, each with so many octets of payload.
func ExtentOf(b []byte, i packet.Info, each int) (Extent, error) {
	head, ok := headOf(b, i)
	if !ok || each < 1 {
		return Extent{}, ErrShape
	}
	payload := len(b) - head
	n := max(1, (payload+each-1)/each)
	return Extent{n, payload + n*head, head + min(each, payload)}, nil
}

// headOf is how many octets of headers a packet has that several may have been joined into.
func headOf(b []byte, i packet.Info) (head int, ok bool) {
	if i.Fragment || i.Size != len(b) {
		return 0, false
	}
	switch i.Proto {
	case netset.TCP:
		head = i.Transport + int(b[i.Transport+12]>>4)*4
		return head, head >= i.Transport+20 && head <= len(b)
	case netset.UDP:
		return i.Transport + 8, true
	}
	return 0, false
}

// Shape is how a joined packet is cut.
type Shape struct {
	whole     []byte
	transport int
	head      int // octets of headers
	each      int // octets of payload of each but the last
	count     int
	udp, v6   bool
	ident     uint16
	sequence  uint32
	ipSum     uint32 // of the IPv4 header's words that are the same in each
	sum       uint32 // of the transport header's, and the pseudo-header's
}

// ShapeOf looks at a packet into which several were joined, each with so many octets of payload, the last perhaps fewer.
func ShapeOf(b []byte, each int) (s Shape, err error) {
	i, err := packet.Parse(b)
	if err != nil {
		return s, err
	}
	head, ok := headOf(b, i)
	if !ok || each < 1 {
		return s, ErrShape
	}
	s = Shape{whole: b, transport: i.Transport, head: head, each: each, v6: i.Src.Is6()}
	t := b[s.transport:]
	s.sum = packet.PseudoSum(b, i.Proto, 0)
	switch i.Proto {
	case netset.TCP:
		s.sequence = binary.BigEndian.Uint32(t[4:])
		for _, alike := range [][]byte{t[:4], t[8:12], t[14:16], b[s.transport+18 : s.head]} {
			s.sum += uint32(packet.Sum(alike))
		}
	case netset.UDP:
		s.udp = true
		s.sum += uint32(packet.Sum(t[:4]))
	}
	if !s.v6 {
		s.ident = binary.BigEndian.Uint16(b[4:])
		s.ipSum = uint32(packet.Sum(b[:2])) + uint32(packet.Sum(b[6:10])) + uint32(packet.Sum(b[12:s.transport]))
	}
	s.count = max(1, (len(b)-s.head+each-1)/each)
	return s, nil
}

// Count is how many there are.
func (s *Shape) Count() int { return s.count }

// Len is how many octets one of them has.
func (s *Shape) Len(i int) int { return s.head + min(s.each, len(s.whole)-s.head-i*s.each) }

// Put writes one of them, which has Len octets.
func (s *Shape) Put(i int, into []byte) {
	at := i * s.each
	n := len(into) - s.head
	copy(into, s.whole[:s.head])
	payload := into[s.head:]
	copy(payload, s.whole[s.head+at:])
	if s.v6 {
		binary.BigEndian.PutUint16(into[4:], uint16(len(into)-40))
	} else {
		ident := s.ident + uint16(i)
		binary.BigEndian.PutUint16(into[2:], uint16(len(into)))
		binary.BigEndian.PutUint16(into[4:], ident)
		binary.BigEndian.PutUint16(into[10:], ^packet.Fold(s.ipSum+uint32(len(into))+uint32(ident)))
	}
	t := into[s.transport:]
	size := s.head - s.transport + n
	sum := s.sum + uint32(size) + uint32(packet.Sum(payload))
	if s.udp {
		binary.BigEndian.PutUint16(t[4:], uint16(size))
		if sum := ^packet.Fold(sum + uint32(size)); sum != 0 {
			binary.BigEndian.PutUint16(t[6:], sum)
		} else {
			binary.BigEndian.PutUint16(t[6:], 0xffff)
		}
		return
	}
	if i > 0 {
		t[13] &^= flagCWR
	}
	if i < s.count-1 {
		t[13] &^= flagFIN | flagPSH
	}
	sequence := s.sequence + uint32(at)
	binary.BigEndian.PutUint32(t[4:], sequence)
	sum += sequence>>16 + sequence&0xffff + uint32(binary.BigEndian.Uint16(t[12:]))
	binary.BigEndian.PutUint16(t[16:], ^packet.Fold(sum))
}

// Each cuts a packet that may be joined into those that it is, with room around each; what cannot be cut is lost. They are their own.
func Each(p inside.Packet, yield func(inside.Packet)) {
	if p.Each == 0 {
		yield(p)
		return
	}
	s, err := ShapeOf(p.Bytes(), p.Each)
	if err != nil {
		return
	}
	for i := range s.Count() {
		n := s.Len(i)
		one := inside.Packet{Buf: make([]byte, inside.Headroom+n+inside.Tailroom), Off: inside.Headroom, Len: n}
		s.Put(i, one.Bytes())
		yield(one)
	}
}
