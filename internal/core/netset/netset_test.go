package netset

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// small draws addresses from two short ranges, one of each family, so that sets often meet at their edges.
func small(t *rapid.T) netip.Addr {
	n := rapid.IntRange(0, 40).Draw(t, "addr")
	if n <= 20 {
		return netip.AddrFrom4([4]byte{255, 255, 255, byte(235 + n)})
	}
	return netip.AddrFrom16([16]byte{15: byte(n - 21)})
}

func addrs(t *rapid.T) Addrs {
	var spans []Span
	for range rapid.IntRange(0, 4).Draw(t, "spans") {
		a, b := small(t), small(t)
		if a.Is4() == b.Is4() {
			spans = append(spans, Span{a, b})
		}
	}
	return OfSpans(spans...)
}

func services(t *rapid.T) Services {
	var s Services
	for range rapid.IntRange(0, 3).Draw(t, "services") {
		from := rapid.Uint16Range(0, 6).Draw(t, "from")
		to := rapid.Uint16Range(from, 8).Draw(t, "to")
		s = s.Union(Ports(rapid.SampledFrom([]uint8{TCP, UDP}).Draw(t, "proto"), from, to))
	}
	return s
}

func traffic(t *rapid.T) Traffic {
	var all []Traffic
	for range rapid.IntRange(0, 4).Draw(t, "parts") {
		all = append(all, Of(addrs(t), services(t)))
	}
	return UnionAll(all)
}

// universe is every point that the generators can reach, and its neighbours.
func universe(visit func(netip.Addr, Point)) {
	for n := range 42 {
		a := netip.AddrFrom16([16]byte{15: byte(n - 20)})
		if n <= 20 {
			a = netip.AddrFrom4([4]byte{255, 255, 255, byte(235 + n)})
		}
		for port := range uint16(10) {
			visit(a, PortPoint(TCP, port))
			visit(a, PortPoint(UDP, port))
		}
	}
}

// The algebra agrees with membership, point by point, and its results are canonical.
func TestTrafficAlgebraIsMembership(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b, d := traffic(t), traffic(t), addrs(t)
		union, both, minus, to := a.Union(b), a.Intersect(b), a.Subtract(b), a.To(d)
		universe(func(x netip.Addr, p Point) {
			inA, inB := a.Contains(x, p), b.Contains(x, p)
			if union.Contains(x, p) != (inA || inB) || both.Contains(x, p) != (inA && inB) ||
				minus.Contains(x, p) != (inA && !inB) || to.Contains(x, p) != (inA && d.Contains(x)) {
				t.Fatalf("%v %v: a %v b %v", x, p, inA, inB)
			}
		})
		require.True(t, union.Equal(b.Union(a)))
		require.True(t, a.Equal(both.Union(minus)), "a is made of what it shares and what it does not")
		require.Equal(t, a.Covers(b), union.Equal(a))
		for _, set := range []Traffic{union, both, minus, to} {
			for i, s := range set {
				require.NotEmpty(t, s.Svc)
				if i > 0 {
					require.Negative(t, set[i-1].Dst.To.Compare(s.Dst.From))
				}
			}
		}
	})
}

func TestAddrsAlgebraAndPrefixes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := addrs(t), addrs(t)
		universe(func(x netip.Addr, _ Point) {
			inA, inB := a.Contains(x), b.Contains(x)
			if a.Union(b).Contains(x) != (inA || inB) || a.Intersect(b).Contains(x) != (inA && inB) ||
				a.Subtract(b).Contains(x) != (inA && !inB) {
				t.Fatalf("%v: a %v b %v", x, inA, inB)
			}
		})
		require.True(t, a.Equal(OfPrefixes(a.Prefixes()...)), "prefixes say the same set")
		require.Equal(t, len(a.Intersect(b)) > 0, a.Overlaps(b))
	})
	require.Equal(t, []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0")}, Everywhere.Prefixes())
	require.Equal(t, 256, OfPrefixes(netip.MustParsePrefix("10.0.0.0/24")).Count(1000))
	require.Equal(t, 1000, OfPrefixes(netip.MustParsePrefix("fd00::/64")).Count(1000))
}

func TestServiceWords(t *testing.T) {
	for _, text := range []string{
		"any", "tcp", "tcp/443", "udp/6000-6010", "icmp/echo", "icmpv6/echo", "icmp/3", "proto/47", "proto/18-57",
	} {
		s, err := ParseServices(text)
		require.NoError(t, err)
		require.Equal(t, text, s.String())
	}
	for _, text := range []string{
		"", "tcp/", "tcp/70000", "tcp/9-8", "icmp/256", "proto", "proto/2-1", "proto/1-256", "sctp/1", "tcp/-1", "Any",
	} {
		_, err := ParseServices(text)
		require.Error(t, err, text)
	}
	mixed := Protocol(TCP).Union(Ports(UDP, 53, 53)).Union(Protocol(47))
	require.Equal(t, "tcp, proto/47, udp/53", mixed.String())
	require.False(t, Opening4.Contains(ICMPPoint(ICMP, 0, 0)))
	require.True(t, Opening4.Contains(ICMPPoint(ICMP, 8, 3)))
	require.False(t, Opening6.Contains(ICMPPoint(ICMP, 8, 0)))
}

// A finder finds the sets that share an address with one, and no others.
func TestFinder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sets := make([]Addrs, rapid.IntRange(0, 6).Draw(t, "sets"))
		for i := range sets {
			sets[i] = addrs(t)
		}
		a := addrs(t)
		var want []int
		for i, s := range sets {
			if s.Overlaps(a) {
				want = append(want, i)
			}
		}
		require.Equal(t, want, NewFinder(sets).Touched(a))
	})
}
