// Package netset is the algebra under checks and reach: exact sets of addresses, of services (protocol with
// ports or ICMP types) and of traffic (destination with service). Every set has one canonical form, so that equal
// sets are equal values; operations never alter their arguments.
package netset

import (
	"net/netip"
	"slices"
	"strings"
)

// Span is an inclusive range of addresses of one family. netip.Addr orders IPv4 before IPv6, so spans of both
// families share one order.
type Span struct{ From, To netip.Addr }

// Addrs is a set of addresses: sorted, disjoint spans that do not touch. The nil value is empty.
type Addrs []Span

var (
	min4, max4 = netip.MustParseAddr("0.0.0.0"), netip.MustParseAddr("255.255.255.255")
	min6, max6 = netip.MustParseAddr("::"), netip.MustParseAddr("ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff")

	// All4 and All6 hold every address of their family; Everywhere holds both.
	All4       = Addrs{{min4, max4}}
	All6       = Addrs{{min6, max6}}
	Everywhere = Addrs{{min4, max4}, {min6, max6}}
)

// Last is the highest address of a prefix.
func Last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// PrefixSpan is the range that a prefix covers; host bits are ignored.
func PrefixSpan(p netip.Prefix) Span { return Span{p.Masked().Addr(), Last(p)} }

// OfPrefixes is the set that the prefixes cover together.
func OfPrefixes(ps ...netip.Prefix) Addrs {
	spans := make([]Span, len(ps))
	for i, p := range ps {
		spans[i] = PrefixSpan(p)
	}
	return OfSpans(spans...)
}

// OfAddrs is the set of the given addresses.
func OfAddrs(as ...netip.Addr) Addrs {
	spans := make([]Span, len(as))
	for i, a := range as {
		spans[i] = Span{a, a}
	}
	return OfSpans(spans...)
}

// OfSpans sorts and joins spans in any order into a set. Spans whose From is after To are ignored.
func OfSpans(spans ...Span) Addrs {
	sorted := slices.Clone(spans)
	sorted = slices.DeleteFunc(sorted, func(s Span) bool { return s.From.Compare(s.To) > 0 })
	slices.SortFunc(sorted, func(a, b Span) int { return a.From.Compare(b.From) })
	var out Addrs
	for _, s := range sorted {
		out = out.push(s)
	}
	return out
}

// push appends a span that starts at or after the last one's start.
func (a Addrs) push(s Span) Addrs {
	if n := len(a); n > 0 {
		last := &a[n-1]
		if s.From.Compare(last.To) <= 0 || last.To.Next() == s.From && last.To.Is4() == s.From.Is4() {
			if s.To.Compare(last.To) > 0 {
				last.To = s.To
			}
			return a
		}
	}
	return append(a, s)
}

// Union holds what is in a or in b.
func (a Addrs) Union(b Addrs) Addrs {
	if len(a) == 0 {
		return b
	}
	if len(b) == 0 {
		return a
	}
	out := make(Addrs, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if a[0].From.Compare(b[0].From) <= 0 {
			out, a = out.push(a[0]), a[1:]
		} else {
			out, b = out.push(b[0]), b[1:]
		}
	}
	for _, s := range a {
		out = out.push(s)
	}
	for _, s := range b {
		out = out.push(s)
	}
	return out
}

// Intersect holds what is in both. A small set is looked up in a large one, which costs little more than the small one's size; what a set
// of everything has in common with another is that one itself.
func (a Addrs) Intersect(b Addrs) Addrs {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(a) == 0 {
		return nil
	}
	if a.Equal(Everywhere) {
		return b[:len(b):len(b)]
	}
	var out Addrs
	for _, s := range a {
		b = b[b.reaching(s.From):]
		for i := 0; i < len(b) && b[i].From.Compare(s.To) <= 0; i++ {
			out = append(out, Span{later(s.From, b[i].From), earlier(s.To, b[i].To)})
		}
	}
	return out
}

// reaching is the first span that ends at an address or behind it.
func (a Addrs) reaching(x netip.Addr) int {
	if len(a) > 0 && a[0].To.Compare(x) >= 0 {
		return 0
	}
	i, _ := slices.BinarySearchFunc(a, x, func(s Span, x netip.Addr) int { return s.To.Compare(x) })
	return i
}

// Subtract holds what is in a and not in b.
func (a Addrs) Subtract(b Addrs) Addrs {
	if len(a) == 0 || len(b) == 0 {
		return a
	}
	var out Addrs
	for _, s := range a {
		b = b[b.reaching(s.From):]
		gone := false
		for _, cut := range b {
			if cut.From.Compare(s.To) > 0 {
				break
			}
			if cut.From.Compare(s.From) > 0 {
				out = append(out, Span{s.From, cut.From.Prev()})
			}
			if cut.To.Compare(s.To) >= 0 {
				gone = true
				break
			}
			s.From = cut.To.Next()
		}
		if !gone {
			out = append(out, s)
		}
	}
	return out
}

// Contains tells whether the address is in the set.
func (a Addrs) Contains(x netip.Addr) bool {
	low, high := 0, len(a)
	for low < high { // by hand: a packet is looked up in many sets
		if mid := (low + high) / 2; a[mid].To.Less(x) {
			low = mid + 1
		} else {
			high = mid
		}
	}
	return low < len(a) && !x.Less(a[low].From)
}

// Covers tells whether all of b is in a.
func (a Addrs) Covers(b Addrs) bool { return len(b.Subtract(a)) == 0 }

// Overlaps tells whether a and b share an address.
func (a Addrs) Overlaps(b Addrs) bool {
	if len(a) < len(b) {
		a, b = b, a
	}
	for _, s := range b { // the first span of a that ends in s or behind it
		i, _ := slices.BinarySearchFunc(a, s.From, func(x Span, from netip.Addr) int { return x.To.Compare(from) })
		if i < len(a) && a[i].From.Compare(s.To) <= 0 {
			return true
		}
	}
	return false
}

// Touches tells whether some address of a span is in the set.
func (a Addrs) Touches(s Span) bool {
	i := a.reaching(s.From)
	return i < len(a) && a[i].From.Compare(s.To) <= 0
}

// HasFamily tells whether the set holds an IPv4 address (v4) or an IPv6 address (not v4).
func (a Addrs) HasFamily(v4 bool) bool {
	return slices.ContainsFunc(a, func(s Span) bool { return s.From.Is4() == v4 })
}

// Equal tells whether both hold the same addresses.
func (a Addrs) Equal(b Addrs) bool { return slices.Equal(a, b) }

// Count is the number of addresses, capped at limit.
func (a Addrs) Count(limit int) int {
	n := 0
	for _, s := range a {
		n += s.count(limit - n)
		if n >= limit {
			return limit
		}
	}
	return n
}

func (s Span) count(limit int) int {
	from, to := s.From.As16(), s.To.As16()
	for i := range 12 { // a difference in the upper 96 bits is more than any limit
		if from[i] != to[i] {
			return limit
		}
	}
	low := func(b [16]byte) int { return int(b[12])<<24 | int(b[13])<<16 | int(b[14])<<8 | int(b[15]) }
	return min(limit, low(to)-low(from)+1)
}

// Prefixes writes the set as the fewest prefixes.
func (a Addrs) Prefixes() []netip.Prefix {
	var out []netip.Prefix
	for _, s := range a {
		for from := s.From; ; {
			p := netip.PrefixFrom(from, from.BitLen())
			for p.Bits() > 0 {
				wider := netip.PrefixFrom(from, p.Bits()-1)
				if wider.Masked().Addr() != from || Last(wider).Compare(s.To) > 0 {
					break
				}
				p = wider
			}
			out = append(out, p)
			last := Last(p)
			if last.Compare(s.To) >= 0 {
				break
			}
			from = last.Next()
		}
	}
	return out
}

// Words are its spans as addresses, prefixes or ranges, whichever is shortest to read.
func (a Addrs) Words() []string {
	words := make([]string, len(a))
	for i, s := range a {
		words[i] = s.String()
	}
	return words
}

// String writes them joined by commas.
func (a Addrs) String() string { return strings.Join(a.Words(), ", ") }

// String writes one address, one prefix, or "from-to".
func (s Span) String() string {
	if s.From == s.To {
		return s.From.String()
	}
	if ps := (Addrs{s}).Prefixes(); len(ps) == 1 {
		return ps[0].String()
	}
	return s.From.String() + "-" + s.To.String()
}

func later(a, b netip.Addr) netip.Addr {
	if a.Compare(b) >= 0 {
		return a
	}
	return b
}

func earlier(a, b netip.Addr) netip.Addr {
	if a.Compare(b) <= 0 {
		return a
	}
	return b
}
