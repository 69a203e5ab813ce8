package segment

import (
	"bytes"
	"encoding/binary"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

const (
	mostOpen   = 8     // flows of which packets are joined at a time
	mostJoined = 64    // packets in one: as many as Linux takes of UDP
	mostOctets = 65535 // an IP packet has no more
)

// Unit is what is handed on as one: a packet, or several of one flow.
type Unit struct {
	Header Header
	// Parts are its octets: the first packet's, and the payloads of those after it.
	Parts [][]byte
}

// run is packets of one flow that are to be one.
type run struct {
	Unit
	shape
	next  uint32 // TCP: the sequence number that follows
	ident uint16 // IPv4: of the last
	total int    // octets
	over  bool   // nothing may follow
}

// shape is where what is in a packet, and whether it may be joined.
type shape struct {
	transport, head int
	proto           byte
	ports           bool // they can be read
	may             bool
}

// Joiner joins packets. It is for one goroutine; its memory is used again.
type Joiner struct {
	// WithoutUDP is that whoever is written to does not know joined UDP.
	WithoutUDP bool

	runs  [mostOpen]run
	open  []*run
	spare []*run
	alone Unit
}

// Join hands on packets in the order of each flow, joined where they follow each other; of different flows what came later may go first.
// Only packets are joined of which every checksum is right, and which are the same again when they are cut: their headers are alike, their
// IPv4 identifications (RFC 791 §3.1) and sequence numbers follow each other. Headers of first packets are altered. What is handed on is
// valid during the call.
func (j *Joiner) Join(packets func(yield func([]byte) bool), write func(*Unit)) {
	if j.spare == nil && j.open == nil {
		for i := range j.runs {
			j.spare = append(j.spare, &j.runs[i])
		}
	}
	for b := range packets {
		s := shapeOf(b)
		if s.may && s.proto == netset.UDP && j.WithoutUDP {
			s.may = false
		}
		j.add(b, s, write)
	}
	for _, r := range j.open {
		r.write(write)
	}
	j.spare, j.open = append(j.spare, j.open...), j.open[:0]
}

func (j *Joiner) add(b []byte, s shape, write func(*Unit)) {
	for k := 0; k < len(j.open); {
		r := j.open[k]
		switch {
		case !r.sameEnds(b, s):
			k++
		case s.may && r.extend(b, s):
			return
		default:
			j.finish(k, write)
		}
	}
	if !s.may {
		j.alone.Parts = append(j.alone.Parts[:0], b)
		write(&j.alone)
		return
	}
	if len(j.spare) == 0 {
		j.finish(0, write)
	}
	r := j.spare[len(j.spare)-1]
	j.spare = j.spare[:len(j.spare)-1]
	r.begin(b, s)
	j.open = append(j.open, r)
}

// finish hands on what was joined.
func (j *Joiner) finish(k int, write func(*Unit)) {
	r := j.open[k]
	r.write(write)
	j.open = append(j.open[:k], j.open[k+1:]...)
	j.spare = append(j.spare, r)
}

// shapeOf looks whether a packet may be joined with others at all.
func shapeOf(b []byte) (s shape) {
	if len(b) < 20 {
		return s
	}
	switch b[0] >> 4 {
	case 4:
		s.transport, s.proto = int(b[0]&15)*4, b[9]
		if s.transport < 20 || int(binary.BigEndian.Uint16(b[2:])) != len(b) || binary.BigEndian.Uint16(b[6:])&0x3fff != 0 {
			return s
		}
	case 6: // without extension headers
		if len(b) < 40 || int(binary.BigEndian.Uint16(b[4:])) != len(b)-40 {
			return s
		}
		s.transport, s.proto = 40, b[6]
	default:
		return s
	}
	t := b[min(s.transport, len(b)):]
	s.ports = len(t) >= 4 && (s.proto == netset.TCP || s.proto == netset.UDP)
	switch {
	case s.proto == netset.TCP && len(t) > 20:
		s.head = s.transport + int(t[12]>>4)*4
		s.may = s.head >= s.transport+20 && s.head < len(b) && t[13]&(flagSYN|flagRST|flagURG|flagCWR|flagACK) == flagACK
	case s.proto == netset.UDP && len(t) > 8:
		s.head = s.transport + 8
		s.may = int(binary.BigEndian.Uint16(t[4:])) == len(t) && binary.BigEndian.Uint16(t[6:]) != 0
	}
	return s
}

// sameEnds tells whether a packet belongs to the flow of a run, or may: what has no ports that can be read may belong to each between the
// same addresses.
func (r *run) sameEnds(b []byte, s shape) bool {
	first := r.Parts[0]
	if first[0]>>4 != b[0]>>4 {
		return false
	}
	from, to := 12, 20
	if b[0]>>4 == 6 {
		from, to = 8, 40
	}
	if len(b) < to || !bytes.Equal(first[from:to], b[from:to]) {
		return false
	}
	return !s.ports || s.proto == r.proto && string(b[s.transport:s.transport+4]) == string(first[r.transport:r.transport+4])
}

func (r *run) begin(b []byte, s shape) {
	r.shape, r.total, r.over = s, len(b), false
	r.Header = Header{}
	r.Parts = append(r.Parts[:0], b)
	if b[0]>>4 == 4 {
		r.ident = binary.BigEndian.Uint16(b[4:])
	}
	if s.proto == netset.TCP {
		t := b[s.transport:]
		r.next = binary.BigEndian.Uint32(t[4:]) + uint32(len(b)-s.head)
		r.over = t[13]&(flagFIN|flagPSH) != 0
	}
}

// extend adds a packet, where it is the one that follows.
func (r *run) extend(b []byte, s shape) bool {
	first := r.Parts[0]
	each, n := len(first)-r.head, len(b)-s.head
	if r.over || s.head != r.head || s.transport != r.transport || n > each || r.total+n > mostOctets || len(r.Parts) == mostJoined {
		return false
	}
	t, u := b[s.transport:s.head], first[r.transport:r.head]
	if b[0]>>4 == 4 {
		if binary.BigEndian.Uint16(b[4:]) != r.ident+1 || !bytes.Equal(b[:2], first[:2]) || !bytes.Equal(b[6:10], first[6:10]) ||
			!bytes.Equal(b[20:s.transport], first[20:r.transport]) {
			return false
		}
	} else if !bytes.Equal(b[:4], first[:4]) || b[7] != first[7] {
		return false
	}
	if s.proto == netset.TCP && (binary.BigEndian.Uint32(t[4:]) != r.next || !alike(t, u)) {
		return false
	}
	if len(r.Parts) == 1 && !right(first, r.shape) || !right(b, s) {
		return false
	}
	r.Parts = append(r.Parts, b[s.head:])
	r.total += n
	r.ident++
	r.next += uint32(n)
	r.over = n < each
	if s.proto == netset.TCP && t[13]&(flagFIN|flagPSH) != 0 {
		r.over = true
		u[13] |= t[13] & (flagFIN | flagPSH)
	}
	return true
}

// alike tells whether TCP headers are, but for what differs between packets that follow each other.
func alike(t, u []byte) bool {
	return bytes.Equal(t[8:13], u[8:13]) && (t[13]^u[13])&^(flagFIN|flagPSH) == 0 && bytes.Equal(t[14:16],
		u[14:16]) && bytes.Equal(t[18:], u[18:])
}

// right tells whether a packet's checksums are, and are written as they would be again: of the two ways in which ones' complement has zero
// only one is.
func right(b []byte, s shape) bool {
	if b[0]>>4 == 4 && (packet.Sum(b[:s.transport]) != 0xffff || b[10]&b[11] == 0xff) {
		return false
	}
	t := b[s.transport:]
	if s.proto == netset.TCP && t[16]&t[17] == 0xff {
		return false
	}
	return packet.Fold(packet.PseudoSum(b, s.proto, len(t))+uint32(packet.Sum(t))) == 0xffff
}

// write hands a run on, with the headers of a packet into which several were joined.
func (r *run) write(write func(*Unit)) {
	if len(r.Parts) > 1 {
		b := r.Parts[0]
		r.Header = Header{
			flags: flagNeedsChecksum, head: uint16(r.head), each: uint16(len(b) - r.head), start: uint16(r.transport), offset: 16,
		}
		if b[0]>>4 == 4 {
			r.Header.kind = kindTCP4
			binary.BigEndian.PutUint16(b[2:], uint16(r.total))
			binary.BigEndian.PutUint16(b[10:], 0)
			binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:r.transport], 0))
		} else {
			r.Header.kind = kindTCP6
			binary.BigEndian.PutUint16(b[4:], uint16(r.total-40))
		}
		t, size := b[r.transport:], r.total-r.transport
		if r.proto == netset.UDP {
			r.Header.kind, r.Header.offset = kindUDP, 6
			binary.BigEndian.PutUint16(t[4:], uint16(size))
		}
		binary.BigEndian.PutUint16(t[r.Header.offset:], packet.Fold(packet.PseudoSum(b, r.proto, size)))
	}
	write(&r.Unit)
	r.Parts = r.Parts[:0]
}
