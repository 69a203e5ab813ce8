package ike

import (
	"encoding/binary"
	"errors"
)

// Messages in parts (RFC 7383): a way that loses the fragments of IP carries IKE messages of any length nevertheless.
const (
	partLongest = 1232 // octets of a part's message, so that IPv6 carries it everywhere: 1,280 less the headers of IPv6 and UDP
	// partLeast is that where parts of the usual length are lost: every way carries 576 octets of IPv4 (RFC 1122 §3.3.2), less those of
	// IPv4, UDP and the marker of UDP 4500.
	partLeast   = 544
	partsMost   = 64
	partsOctets = 32 << 10 // of what is gathered
	partHeader  = 4        // number and total (RFC 7383 §2.5)
)

// part is one of a message's parts, authentic and decrypted.
type part struct {
	number, total uint16
	first         payloadType // of the chain, in the first part
	plain         []byte
}

// begins tells whether a message is a whole one, or the first of its parts: once is enough to answer what came before.
func (m *message) begins() bool { return m == nil || m.part == nil || m.part.number == 1 }

// errLong is about a message that its sender has cut into parts, and that is longer than partsOctets.
var errLong = errors.New("ike: a message of more than 32 KiB in parts")

var errPart = errors.New("ike: a part of a message, and not the last that was missing")

// sealAll seals a message, in parts of at most so many octets where that is wanted and it is longer; 0: in one. counter gives the number of
// each sealed one.
func (k *keys) sealAll(h header, ps []payload, fromInitiator bool, most int, counter func() uint64) [][]byte {
	first, chain := marshalPayloads(ps)
	protect := k.side(fromInitiator)
	if most == 0 || headerLen+4+protect.Len(len(chain)) <= most {
		return [][]byte{k.sealChain(h, first, chain, fromInitiator, counter())}
	}
	room := protect.Room(most - headerLen - 4 - partHeader)
	total := (len(chain) + room - 1) / room
	out := make([][]byte, 0, total)
	h.first = plSKF
	for n := 1; n <= total; n++ {
		piece := chain[:min(room, len(chain))]
		chain = chain[len(piece):]
		skLen := 4 + partHeader + protect.Len(len(piece))
		b := marshalHeader(h, headerLen+skLen)
		b = append(b, byte(first), 0, byte(skLen>>8), byte(skLen))
		b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, uint16(n)), uint16(total))
		out = append(out, protect.Seal(b, piece, counter()))
		first = plNone // only the first part says what the chain begins with
	}
	return out
}

// openPart decrypts a message that is a part of another.
func (k *keys) openPart(m *message, fromInitiator bool) (*message, error) {
	body := m.payloads[len(m.payloads)-1].body
	if len(body) < partHeader {
		return nil, errSealed
	}
	head := m.raw[:len(m.raw)-len(body)+partHeader]
	plain, err := k.side(fromInitiator).Open(head, body[partHeader:])
	if err != nil { // with a padding that is none it is authentic, and there is nothing to gather
		return nil, errSealed
	}
	p := &part{
		number: binary.BigEndian.Uint16(body), total: binary.BigEndian.Uint16(body[2:]), plain: append([]byte{}, plain...),
		first: payloadType(m.raw[len(m.raw)-len(body)-4]),
	}
	if p.number == 0 || p.number > p.total || p.total > partsMost || (p.number == 1) != (p.first != plNone) {
		return nil, errSealed
	}
	return &message{header: m.header, raw: m.raw, part: p}, nil
}

// gathered are the parts of one message that have come.
type gathered struct {
	id     uint32
	parts  []*part // by number, from 1
	octets int
}

// lacks tells whether an opened message is new: a whole one is, and a part that has not come.
func (g *gathered) lacks(m *message) bool {
	p := m.part
	return p == nil || g.id != m.id || int(p.total) > len(g.parts) || int(p.total) == len(g.parts) && g.parts[p.number-1] == nil
}

// add takes an opened message: a whole one is given back; of parts, the whole once all of them have come, and errPart before. A message
// that is cut into more parts than the one that is gathered takes its place (RFC 7383 §2.6); one of fewer is the older one.
func (g *gathered) add(m *message) (*message, error) {
	p := m.part
	if p == nil {
		*g = gathered{}
		return m, nil
	}
	if g.id != m.id || int(p.total) > len(g.parts) {
		*g = gathered{id: m.id, parts: make([]*part, p.total)}
	}
	if int(p.total) < len(g.parts) || g.parts[p.number-1] != nil {
		return nil, errPart
	}
	if g.octets += len(p.plain); g.octets > partsOctets {
		*g = gathered{}
		return nil, errLong
	}
	g.parts[p.number-1] = p
	var chain []byte
	for _, x := range g.parts {
		if x == nil {
			return nil, errPart
		}
		chain = append(chain, x.plain...)
	}
	first := g.parts[0].first
	*g = gathered{}
	whole := &message{header: m.header, raw: m.raw}
	var err error
	whole.chain, whole.chainFirst = chain, first
	whole.payloads, err = parsePayloads(first, chain)
	return whole, err
}
