package packet

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
	"time"
)

// What is kept of packets that come in parts (docs/semantics.md, "Fragments").
const (
	partsFor  = 30 * time.Second // from the first part on (RFC 791 §3.2: at least 15 s; RFC 8200 §4.5: 60 s)
	partsEach = 128              // parts of one packet
	pilesMost = 64               // packets at once
)

// Came is how a packet came that was put together of parts; zero: whole.
type Came struct {
	Largest int    // of its parts, in octets
	Ident   uint32 // of its parts
}

// Collector puts packets together of the parts that they come in (RFC 791 §3.2, RFC 8200 §4.5). Parts that overlap make a packet that is
// never whole (RFC 5722). It keeps at most Room octets, at most 64 packets, each for at most 30 s from its first part on; what it has no
// room for, it gives up oldest first. Its zero value keeps nothing. It is not safe for concurrent use.
type Collector struct {
	Room  int
	kept  int
	piles []*pile // oldest first
	lost  uint64
}

// partKey is what the parts of one packet have in common.
type partKey struct {
	src, dst netip.Addr
	ident    uint32
	proto    uint8 // IPv4 only (RFC 8200 §4.5 leaves it out)
	link     bool
}

type pile struct {
	partKey
	since   time.Time
	head    []byte // of the first part, up to where the payload begins
	parts   []part // in the order of their places
	total   int    // of the payload; 0: not known yet
	have    int
	largest int
	keeps   bool // a part said that it is not to be cut further
	spoiled bool // nothing will come of it
}

type part struct {
	at   int
	data []byte
}

// Lost is how many packets were given up for want of parts, room or sense.
func (c *Collector) Lost() uint64 { return c.lost }

// Kept is how many octets are kept.
func (c *Collector) Kept() int { return c.kept }

// Add takes a part, and gives the packet once its last part has come; nil before. Packets by two links are never one: link tells them
// apart. The part is not kept; its Info must say that it is a fragment.
func (c *Collector) Add(b []byte, i Info, link bool, now time.Time) ([]byte, Came) {
	c.forget(now)
	f, ok := readPart(b, i)
	if !ok {
		c.lost++
		return nil, Came{}
	}
	f.key.link = link
	n := slices.IndexFunc(c.piles, func(p *pile) bool { return p.partKey == f.key })
	if n < 0 {
		n = len(c.piles)
		c.piles = append(c.piles, &pile{partKey: f.key, since: now})
	}
	p := c.piles[n]
	was := p.size()
	p.add(f, len(b))
	c.kept += p.size() - was
	if p.total > 0 && p.have == p.total && p.head != nil {
		c.drop(n)
		whole, ok := p.whole()
		if !ok {
			c.lost++
			return nil, Came{}
		}
		return whole, Came{p.largest, p.ident}
	}
	for len(c.piles) > 0 && (c.kept > c.Room || len(c.piles) > pilesMost) {
		c.drop(0)
		c.lost++
	}
	return nil, Came{}
}

func (c *Collector) forget(now time.Time) {
	for len(c.piles) > 0 && now.Sub(c.piles[0].since) > partsFor {
		c.drop(0)
		c.lost++
	}
}

func (c *Collector) drop(n int) {
	c.kept -= c.piles[n].size()
	c.piles = slices.Delete(c.piles, n, n+1)
}

// aPart is a part as its headers tell it.
type aPart struct {
	key   partKey
	head  []byte // the header without what makes it a part
	at    int    // where its data stand in the payload
	data  []byte
	last  bool
	keeps bool
}

func readPart(b []byte, i Info) (f aPart, ok bool) {
	f.key.src, f.key.dst = i.Src, i.Dst
	var place uint16
	if i.Src.Is4() {
		place = binary.BigEndian.Uint16(b[6:])
		f.key.ident, f.key.proto = uint32(binary.BigEndian.Uint16(b[4:])), i.Proto
		f.last, f.keeps = place&0x2000 == 0, i.DontFragment
		f.at = int(place&0x1fff) * 8
		f.head, f.data = b[:i.Transport], b[i.Transport:i.Size]
	} else {
		if i.Transport+8 > i.Size {
			return f, false
		}
		h := b[i.Transport:]
		place = binary.BigEndian.Uint16(h[2:])
		f.key.ident, f.last = binary.BigEndian.Uint32(h[4:]), place&1 == 0
		f.at = int(place &^ 7)
		f.head = bytes.Clone(b[:i.Transport])
		f.head[nextHeader(b, i.Transport)] = h[0]
		f.data = h[8 : i.Size-i.Transport]
	}
	if len(f.data) == 0 || !f.last && len(f.data)%8 != 0 || f.at+len(f.data) > 0xffff {
		return f, false
	}
	return f, true
}

// nextHeader is where the IPv6 header before the one at an octet says what that is.
func nextHeader(b []byte, at int) int {
	field, begin := 6, 40
	for begin < at {
		field, begin = begin, begin+8+int(b[begin+1])*8
	}
	return field
}

func (p *pile) size() int { return p.have + len(p.head) + 64*len(p.parts) }

func (p *pile) add(f aPart, size int) {
	if p.spoiled {
		return
	}
	n, found := slices.BinarySearchFunc(p.parts, f.at, func(x part, at int) int { return cmp.Compare(x.at, at) })
	if found && bytes.Equal(p.parts[n].data, f.data) {
		return // once more
	}
	overlaps := n > 0 && p.parts[n-1].at+len(p.parts[n-1].data) > f.at || n < len(p.parts) && f.at+len(f.data) > p.parts[n].at
	beyond := p.total > 0 && f.at+len(f.data) > p.total
	if f.last {
		beyond = p.total > 0 && p.total != f.at+len(f.data) || n < len(p.parts)
		p.total = f.at + len(f.data)
	}
	if overlaps || beyond || len(p.parts) == partsEach {
		*p = pile{partKey: p.partKey, since: p.since, spoiled: true}
		return
	}
	p.parts = slices.Insert(p.parts, n, part{f.at, bytes.Clone(f.data)})
	p.have += len(f.data)
	p.largest = max(p.largest, size)
	p.keeps = p.keeps || f.keeps
	if f.at == 0 {
		p.head = bytes.Clone(f.head)
	}
}

// whole writes the packet; false where it would be too large.
func (p *pile) whole() ([]byte, bool) {
	size := len(p.head) + p.total
	v4 := p.src.Is4()
	if v4 && size > 0xffff || !v4 && size-40 > 0xffff {
		return nil, false
	}
	b := make([]byte, 0, size)
	b = append(b, p.head...)
	for _, x := range p.parts {
		b = append(b, x.data...)
	}
	if !v4 {
		put(b[4:], uint16(size-40))
		return b, true
	}
	put(b[2:], uint16(size))
	put(b[6:], 0)
	if p.keeps {
		b[6] = 0x40
	}
	sum4(b[:len(p.head)])
	return b, true
}

func sum4(head []byte) {
	put(head[10:], 0)
	put(head[10:], Checksum(head, 0))
}

// Cut cuts a packet into parts of at most so many octets, at least 68 in IPv4 (RFC 791 §3.2) and 1280 in IPv6; one that fits is its only
// part. ident names the parts in IPv6; IPv4's are named by the packet itself. The options of IPv4 that are not for every part stay in the
// first.
func Cut(b []byte, most int, ident uint32) [][]byte {
	if len(b) <= most {
		return [][]byte{b}
	}
	i, err := Parse(b)
	if err != nil || i.Fragment {
		return nil
	}
	head := bytes.Clone(b[:i.Transport])
	v4 := i.Src.Is4()
	if !v4 {
		field := nextHeader(b, i.Transport)
		head = append(head, head[field], 0, 0, 0)
		head = binary.BigEndian.AppendUint32(head, ident)
		head[field] = 44
	}
	room := (most - len(head)) &^ 7
	if room <= 0 {
		return nil
	}
	var out [][]byte
	payload := b[i.Transport:i.Size]
	for at := 0; at < len(payload); at += room {
		data := payload[at:min(at+room, len(payload))]
		x := append(bytes.Clone(head), data...)
		more := at+room < len(payload)
		if v4 {
			placed4(x, len(head), at, more)
		} else {
			placed6(x, len(head), at, more)
		}
		out = append(out, x)
	}
	return out
}

func placed6(x []byte, head, at int, more bool) {
	put(x[4:], uint16(len(x)-40))
	place := uint16(at)
	if more {
		place |= 1
	}
	put(x[head-6:], place)
}

func placed4(x []byte, head, at int, more bool) {
	put(x[2:], uint16(len(x)))
	place := uint16(at/8) | uint16(x[6]&0x40)<<8
	if more {
		place |= 0x2000
	}
	put(x[6:], place)
	if at > 0 {
		onlyCopied(x[20:head])
	}
	sum4(x[:head])
}

// onlyCopied makes nothing of the options that belong into the first part alone (RFC 791 §3.1: the copied flag).
func onlyCopied(options []byte) {
	for len(options) > 0 {
		kind, n := options[0], 1
		if kind == 0 {
			return
		}
		if kind != 1 {
			if len(options) < 2 || options[1] < 2 || int(options[1]) > len(options) {
				return
			}
			n = int(options[1])
		}
		if kind&0x80 == 0 {
			for k := range n {
				options[k] = 1
			}
		}
		options = options[n:]
	}
}
