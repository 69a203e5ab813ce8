package netset

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Protocol numbers (IANA) that have something finer than the protocol to tell apart.
const (
	ICMP   uint8 = 1
	TCP    uint8 = 6
	UDP    uint8 = 17
	ICMPv6 uint8 = 58
)

// Point is one service: protocol in bits 16 to 23; below it the destination port (TCP, UDP), the ICMP type and code
// (type in bits 8 to 15), or 0 (others, which have nothing finer).
type Point uint32

// PortPoint is a TCP or UDP port as a point; for any other protocol the port is left out.
func PortPoint(proto uint8, port uint16) Point {
	if proto != TCP && proto != UDP {
		port = 0
	}
	return Point(proto)<<16 | Point(port)
}

// ICMPPoint is an ICMP message as a point; proto is ICMP or ICMPv6.
func ICMPPoint(proto, kind, code uint8) Point {
	return Point(proto)<<16 | Point(kind)<<8 | Point(code)
}

// Proto is the point's protocol.
func (p Point) Proto() uint8 { return uint8(p >> 16) }

// Port is the point's port, or its ICMP type and code.
func (p Point) Port() uint16 { return uint16(p) }

// Range is an inclusive range of points.
type Range struct{ From, To Point }

// Services is a set of services: sorted, disjoint ranges that do not touch. A protocol without ports fills its whole
// 65536 points, so that complements need no special case.
type Services []Range

const lastPoint Point = 0xffffff

var (
	// AnyService holds every protocol.
	AnyService = Services{{0, lastPoint}}
	// Opening4 and Opening6 hold what can open a flow in each family (docs/semantics.md, "What can open a flow").
	Opening4 = openers(ICMP, ICMPv6, 8, 13)
	Opening6 = openers(ICMPv6, ICMP, 128)
)

func openers(own, foreign uint8, kinds ...uint8) Services {
	s := AnyService.Subtract(Protocol(own)).Subtract(Protocol(foreign))
	for _, k := range kinds {
		s = s.Union(ICMPType(own, k))
	}
	return s
}

// Protocol holds all of one protocol.
func Protocol(proto uint8) Services {
	return Services{{Point(proto) << 16, Point(proto)<<16 | 0xffff}}
}

// Ports holds an inclusive range of ports of TCP or UDP.
func Ports(proto uint8, from, to uint16) Services {
	return Services{{PortPoint(proto, from), PortPoint(proto, to)}}
}

// ICMPType holds all codes of one ICMP type.
func ICMPType(proto, kind uint8) Services {
	return Services{{ICMPPoint(proto, kind, 0), ICMPPoint(proto, kind, 0xff)}}
}

// One holds a single point; of a protocol without ports, the protocol.
func One(p Point) Services {
	switch p.Proto() {
	case TCP, UDP, ICMP, ICMPv6:
		return Services{{p, p}}
	}
	return Protocol(p.Proto())
}

// Union holds what is in s or t.
func (s Services) Union(t Services) Services {
	if len(s) == 0 {
		return t
	}
	if len(t) == 0 {
		return s
	}
	all := make(Services, 0, len(s)+len(t))
	all = append(append(all, s...), t...)
	slices.SortFunc(all, func(a, b Range) int { return int(a.From) - int(b.From) })
	out := all[:1]
	for _, r := range all[1:] {
		if last := &out[len(out)-1]; r.From <= last.To+1 {
			last.To = max(last.To, r.To)
		} else {
			out = append(out, r)
		}
	}
	return out
}

// Intersect holds what is in both.
func (s Services) Intersect(t Services) Services {
	switch {
	case len(s) == 1 && s[0] == AnyService[0]:
		return t
	case len(t) == 1 && t[0] == AnyService[0]:
		return s
	}
	var out Services
	for len(s) > 0 && len(t) > 0 {
		from, to := max(s[0].From, t[0].From), min(s[0].To, t[0].To)
		if from <= to {
			out = append(out, Range{from, to})
		}
		if s[0].To < t[0].To {
			s = s[1:]
		} else {
			t = t[1:]
		}
	}
	return out
}

// Subtract holds what is in s and not in t.
func (s Services) Subtract(t Services) Services {
	if len(t) == 0 {
		return s
	}
	inverse, from := make(Services, 0, len(t)+1), Point(0)
	for _, r := range t {
		if r.From > from {
			inverse = append(inverse, Range{from, r.From - 1})
		}
		from = r.To + 1
	}
	if from <= lastPoint {
		inverse = append(inverse, Range{from, lastPoint})
	}
	return s.Intersect(inverse)
}

// Contains tells whether the point is in the set.
func (s Services) Contains(p Point) bool {
	i, found := slices.BinarySearchFunc(s, p, func(r Range, p Point) int { return int(r.From) - int(p) })
	return found || i > 0 && s[i-1].To >= p
}

// Equal tells whether both hold the same services.
func (s Services) Equal(t Services) bool { return slices.Equal(s, t) }

// Example picks the point of the set that is easiest to talk about: a TCP port, then UDP, then ICMP, then the first.
func (s Services) Example() (Point, bool) {
	if len(s) == 0 {
		return 0, false
	}
	for _, proto := range []uint8{TCP, UDP, ICMP, ICMPv6} {
		if in := s.Intersect(Protocol(proto)); len(in) > 0 {
			return in[0].From, true
		}
	}
	return s[0].From, true
}

var icmpNames = map[string]Point{
	"icmp/echo": ICMPPoint(ICMP, 8, 0), "icmp/timestamp": ICMPPoint(ICMP, 13, 0), "icmpv6/echo": ICMPPoint(ICMPv6, 128, 0),
}

// ParseServices reads one service: "any", "tcp", "udp", "icmp", "icmpv6", "tcp/443", "udp/6000-6010", "icmp/echo", "ping"
// (echo in both families), "icmp/13", "proto/47" or "proto/2-57".
func ParseServices(text string) (Services, error) {
	bad := func() (Services, error) {
		return nil, fmt.Errorf("%q is no service: expected any, ping, tcp/443, udp/6000-6010, icmp/echo, or proto/47", text)
	}
	switch text {
	case "any":
		return AnyService, nil
	case "ping":
		return ICMPType(ICMP, 8).Union(ICMPType(ICMPv6, 128)), nil
	}
	if p, ok := icmpNames[text]; ok {
		return ICMPType(p.Proto(), uint8(p>>8)), nil
	}
	name, rest, finer := strings.Cut(text, "/")
	proto, known := map[string]uint8{"tcp": TCP, "udp": UDP, "icmp": ICMP, "icmpv6": ICMPv6}[name]
	if !known && name != "proto" || !known && !finer {
		return bad()
	}
	if !finer {
		return Protocol(proto), nil
	}
	low, high, isRange := strings.Cut(rest, "-")
	limit := uint64(255)
	if proto == TCP || proto == UDP {
		limit = 65535
	}
	from, err := strconv.ParseUint(low, 10, 16)
	if err != nil || from > limit {
		return bad()
	}
	to := from
	if isRange {
		if to, err = strconv.ParseUint(high, 10, 16); err != nil || to > limit || to < from {
			return bad()
		}
	}
	switch {
	case name == "proto":
		return Services{{Point(from) << 16, Point(to)<<16 | 0xffff}}, nil
	case proto == TCP || proto == UDP:
		return Ports(proto, uint16(from), uint16(to)), nil
	}
	return Services{{ICMPPoint(proto, uint8(from), 0), ICMPPoint(proto, uint8(to), 0xff)}}, nil
}

// ProtoName is the protocol's name as ParseServices reads it.
func ProtoName(proto uint8) string {
	switch proto {
	case TCP:
		return "tcp"
	case UDP:
		return "udp"
	case ICMP:
		return "icmp"
	case ICMPv6:
		return "icmpv6"
	}
	return "proto/" + strconv.Itoa(int(proto))
}

// String writes a point as ParseServices reads it.
func (p Point) String() string {
	switch p.Proto() {
	case TCP, UDP:
		return ProtoName(p.Proto()) + "/" + strconv.Itoa(int(p.Port()))
	case ICMP, ICMPv6:
		return One(p | 0xff).String()
	}
	return ProtoName(p.Proto())
}

// Words are the services of the set as ParseServices reads them.
func (s Services) Words() []string {
	if s.Equal(AnyService) {
		return []string{"any"}
	}
	words := []string{}
	s, whole := s.wholeProtocols()
	words = append(words, whole...)
	for _, r := range s {
		words = append(words, r.words()...)
	}
	return words
}

// String writes them joined by commas.
func (s Services) String() string { return strings.Join(s.Words(), ", ") }

// wholeProtocols takes out the protocols that the set holds entirely, runs of them written as one.
func (s Services) wholeProtocols() (rest Services, words []string) {
	for _, r := range s {
		first, last := (r.From+0xffff)>>16, (r.To+1)>>16 // protocols [first, last) are whole
		if first >= last {
			rest = append(rest, r)
			continue
		}
		if r.From < first<<16 {
			rest = append(rest, Range{r.From, first<<16 - 1})
		}
		if last-first > 4 {
			words = append(words, fmt.Sprintf("proto/%d-%d", first, last-1))
		} else {
			for p := first; p < last; p++ {
				words = append(words, ProtoName(uint8(p)))
			}
		}
		if r.To >= last<<16 {
			rest = append(rest, Range{last << 16, r.To})
		}
	}
	return rest, words
}

func (r Range) words() []string {
	proto := r.From.Proto()
	if end := Point(proto)<<16 | 0xffff; r.To > end {
		return append(Range{r.From, end}.words(), Range{end + 1, r.To}.words()...)
	}
	from, to := r.From.Port(), r.To.Port()
	if proto == ICMP || proto == ICMPv6 {
		from, to = from>>8, to>>8
		for name, p := range icmpNames {
			if p.Proto() == proto && from == to && p.Port()>>8 == from {
				return []string{name}
			}
		}
	}
	if from == to {
		return []string{fmt.Sprintf("%s/%d", ProtoName(proto), from)}
	}
	return []string{fmt.Sprintf("%s/%d-%d", ProtoName(proto), from, to)}
}
