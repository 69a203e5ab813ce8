package pool

import (
	"encoding/binary"
	"net/netip"

	"yellowlantern/internal/core/netset"
)

// Bounds of the IPv6 prefixes that are leased whole: no longer than what a link needs (RFC 4291 §2.5.4), no shorter than a site's.
const (
	ShortestEach = 48
	LongestEach  = 64
)

// upper is the first half of an IPv6 address, in which prefixes are told apart.
func upper(a netip.Addr) uint64 {
	b := a.As16()
	return binary.BigEndian.Uint64(b[:8])
}

// blocks are the first and last prefix of a length, as numbers, that lie in a span whole; ok is false if none does.
func blocks(s netset.Span, each int) (first, last uint64, ok bool) {
	shift := 64 - each
	first, last = upper(s.From)>>shift, upper(s.To)>>shift
	at := func(n uint64) netset.Span { return netset.PrefixSpan(block(n, each)) }
	if at(first).From != s.From {
		first++
	}
	if at(last).To != s.To {
		if last == 0 {
			return 0, 0, false
		}
		last--
	}
	return first, last, first <= last
}

// block is a prefix by its number.
func block(n uint64, each int) netip.Prefix {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], n<<(64-each))
	return netip.PrefixFrom(netip.AddrFrom16(b), each)
}

// Room is how many leases of a family there can be of a supply, counted up to most.
func Room(supply netset.Addrs, v4 bool, each, most int) int {
	if v4 {
		return supply.Intersect(netset.All4).Count(most)
	}
	supply = supply.Intersect(netset.All6)
	if each == 0 {
		return supply.Count(most)
	}
	n := 0
	for _, s := range supply {
		if first, last, ok := blocks(s, each); ok {
			n += int(min(last-first+1, uint64(most)))
		}
	}
	return min(n, most)
}

// pickPrefix finds a prefix that is free, by the address that stands for it.
func (p *Pool) pickPrefix(supply netset.Addrs, holder string) (netip.Addr, bool) {
	from := uint64(0)
	if next := p.next[false]; next.IsValid() {
		from = upper(next) >> (64 - p.each)
	}
	tries := len(p.leased) + len(p.kept) + len(p.others) + 1 // one of so many is free, if any is
	for _, again := range []bool{false, true} {
		for _, s := range supply {
			first, last, ok := blocks(s, p.each)
			if !again {
				first = max(first, from)
			} else if from > 0 {
				last = min(last, from-1)
			}
			for n := first; ok && n <= last && tries > 0; n++ {
				if a := block(n, p.each).Addr().Next(); p.free(a, holder) {
					p.next[false] = netset.Last(block(n, p.each)).Next()
					return a, true
				}
				tries--
			}
		}
	}
	return netip.Addr{}, false
}

// length is that of what an IPv6 address stands for.
func (p *Pool) length() int {
	if p.each == 0 {
		return 128
	}
	return p.each
}

// overlaps tells whether what an address stands for meets something that was leased while prefixes had another length.
func (p *Pool) overlaps(a netip.Addr) bool {
	if a.Is4() || len(p.before) == 0 {
		return false
	}
	mine := netip.PrefixFrom(a, p.length()).Masked()
	for old, length := range p.before {
		if mine.Overlaps(netip.PrefixFrom(old, length).Masked()) {
			return true
		}
	}
	return false
}
