package netset

import (
	"net/netip"
	"slices"
)

// Slab is a span of destinations with the services that the set holds for every one of them.
type Slab struct {
	Dst Span
	Svc Services
}

// Traffic is a set of (destination, service): slabs sorted by destination, disjoint, none empty, neighbours that
// touch have different services.
type Traffic []Slab

// Of is every service of svc towards every address of dst.
func Of(dst Addrs, svc Services) Traffic {
	if len(svc) == 0 {
		return nil
	}
	out := make(Traffic, len(dst))
	for i, s := range dst {
		out[i] = Slab{s, svc}
	}
	return out
}

// push appends a slab that lies after all others.
func (t Traffic) push(s Slab) Traffic {
	if len(s.Svc) == 0 {
		return t
	}
	if n := len(t); n > 0 {
		last := &t[n-1]
		if last.Dst.To.Is4() == s.Dst.From.Is4() && last.Dst.To.Next() == s.Dst.From && last.Svc.Equal(s.Svc) {
			last.Dst.To = s.Dst.To
			return t
		}
	}
	return append(t, s)
}

// cursor walks a set; its head may have been cut at the front.
type cursor struct {
	rest Traffic
	head Slab
}

func (t Traffic) cursor() cursor {
	c := cursor{rest: t}
	c.next()
	return c
}

func (c *cursor) done() bool { return c.head.Svc == nil }

func (c *cursor) next() {
	c.head = Slab{}
	if len(c.rest) > 0 {
		c.head, c.rest = c.rest[0], c.rest[1:]
	}
}

// skip drops what lies at or before x.
func (c *cursor) skip(x netip.Addr) {
	if c.head.Dst.To.Compare(x) <= 0 {
		c.next()
	} else if c.head.Dst.From.Compare(x) <= 0 {
		c.head.Dst.From = x.Next()
	}
}

// combine walks both sets in one pass and joins the services of each stretch of destinations by op. op must give
// nothing for two empty sets.
func combine(t, u Traffic, op func(x, y Services) Services) Traffic {
	out := make(Traffic, 0, len(t)+len(u))
	a, b := t.cursor(), u.cursor()
	for !a.done() || !b.done() {
		x, y := a.head.Dst, b.head.Dst
		switch {
		case b.done() || !a.done() && x.To.Compare(y.From) < 0:
			out = out.push(Slab{x, op(a.head.Svc, nil)})
			a.next()
			continue
		case a.done() || y.To.Compare(x.From) < 0:
			out = out.push(Slab{y, op(nil, b.head.Svc)})
			b.next()
			continue
		}
		switch c := x.From.Compare(y.From); {
		case c < 0:
			out = out.push(Slab{Span{x.From, y.From.Prev()}, op(a.head.Svc, nil)})
		case c > 0:
			out = out.push(Slab{Span{y.From, x.From.Prev()}, op(nil, b.head.Svc)})
		}
		both := Span{later(x.From, y.From), earlier(x.To, y.To)}
		out = out.push(Slab{both, op(a.head.Svc, b.head.Svc)})
		a.skip(both.To)
		b.skip(both.To)
	}
	return out
}

// Union holds what is in t or u.
func (t Traffic) Union(u Traffic) Traffic {
	if len(t) == 0 {
		return u
	}
	if len(u) == 0 {
		return t
	}
	return combine(t, u, Services.Union)
}

// Intersect holds what is in both.
func (t Traffic) Intersect(u Traffic) Traffic {
	if len(t) > len(u) {
		t, u = u, t
	}
	var out Traffic
	for _, x := range t {
		u = u[u.reaching(x.Dst.From):]
		for i := 0; i < len(u) && u[i].Dst.From.Compare(x.Dst.To) <= 0; i++ {
			out = out.push(Slab{Span{later(x.Dst.From, u[i].Dst.From), earlier(x.Dst.To, u[i].Dst.To)}, x.Svc.Intersect(u[i].Svc)})
		}
	}
	return out
}

// reaching is the first slab that ends at an address or behind it.
func (t Traffic) reaching(x netip.Addr) int {
	if len(t) > 0 && t[0].Dst.To.Compare(x) >= 0 {
		return 0
	}
	i, _ := slices.BinarySearchFunc(t, x, func(s Slab, x netip.Addr) int { return s.Dst.To.Compare(x) })
	return i
}

// Subtract holds what is in t and not in u.
func (t Traffic) Subtract(u Traffic) Traffic {
	if len(t) == 0 || len(u) == 0 {
		return t
	}
	return combine(t, u, Services.Subtract)
}

// To keeps only the destinations in dst.
func (t Traffic) To(dst Addrs) (out Traffic) {
	if len(t) <= len(dst) {
		for _, x := range t {
			dst = dst[dst.reaching(x.Dst.From):]
			for i := 0; i < len(dst) && dst[i].From.Compare(x.Dst.To) <= 0; i++ {
				out = out.push(Slab{Span{later(x.Dst.From, dst[i].From), earlier(x.Dst.To, dst[i].To)}, x.Svc})
			}
		}
		return out
	}
	for _, s := range dst {
		t = t[t.reaching(s.From):]
		for i := 0; i < len(t) && t[i].Dst.From.Compare(s.To) <= 0; i++ {
			out = out.push(Slab{Span{later(t[i].Dst.From, s.From), earlier(t[i].Dst.To, s.To)}, t[i].Svc})
		}
	}
	return out
}

// UnionAll joins many sets by halves, so that n sets of one slab cost n log n.
func UnionAll(sets []Traffic) Traffic {
	switch len(sets) {
	case 0:
		return nil
	case 1:
		return sets[0]
	}
	half := len(sets) / 2
	return UnionAll(sets[:half]).Union(UnionAll(sets[half:]))
}

// At is the services that the set holds towards one destination.
func (t Traffic) At(dst netip.Addr) Services {
	for _, s := range t.To(OfAddrs(dst)) {
		return s.Svc
	}
	return nil
}

// Contains tells whether the service towards the destination is in the set.
func (t Traffic) Contains(dst netip.Addr, p Point) bool {
	i, found := slices.BinarySearchFunc(t, dst, func(s Slab, x netip.Addr) int { return s.Dst.From.Compare(x) })
	if !found {
		if i == 0 || t[i-1].Dst.To.Compare(dst) < 0 {
			return false
		}
		i--
	}
	return t[i].Svc.Contains(p)
}

// Covers tells whether all of u is in t.
func (t Traffic) Covers(u Traffic) bool { return len(u.Subtract(t)) == 0 }

// Equal tells whether both hold the same traffic.
func (t Traffic) Equal(u Traffic) bool {
	return slices.EqualFunc(t, u, func(a, b Slab) bool { return a.Dst == b.Dst && a.Svc.Equal(b.Svc) })
}

// Destinations is every address that the set holds some service for.
func (t Traffic) Destinations() Addrs {
	var out Addrs
	for _, s := range t {
		out = out.push(s.Dst)
	}
	return out
}

// Line is part of a traffic set fit for reading: one set of services towards all of some addresses.
type Line struct {
	Dst Addrs    `json:"-"`
	Svc Services `json:"-"`
}

// Lines groups the set by equal services, in order of first appearance: the fewest lines that say all of it.
func (t Traffic) Lines() []Line {
	var out []Line
	index := map[string]int{}
	for _, s := range t {
		key := s.Svc.String()
		i, seen := index[key]
		if !seen {
			i = len(out)
			index[key] = i
			out = append(out, Line{Svc: s.Svc})
		}
		out[i].Dst = out[i].Dst.push(s.Dst)
	}
	return out
}
