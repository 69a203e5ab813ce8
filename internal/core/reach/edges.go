package reach

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// MostEdges is how many boundary packets one probe tries.
const MostEdges = 60

// Edges picks boundary packets of what a class of people gets through the gateway, for a probe to try beside the expectations: the first
// and last address and port of every set, and those just outside. Nobody need listen there: what is compared is whether the gateway
// itself refuses. Packets whose lot depends on the hour, or on which address is leased, are left out.
func Edges(m *site.Model, c Class, r Reach, most int) []Trial {
	if c.Passage == nil {
		return nil
	}
	through := func(t netset.Traffic) netset.Traffic { return t.To(c.Passage.Routes) }
	some, all := through(Everywhere(r.Enforced)), through(Always(r.Enforced))
	if m.Timed() {
		all = all.Intersect(m.RulesSet(c.Class, site.When{}))
	}
	seen := map[site.Packet]bool{}
	var out []Trial
	for _, slab := range some {
		dsts := around(slab.Dst)
		for _, s := range slab.Svc {
			for _, point := range aroundRange(s) {
				for _, dst := range dsts {
					p := site.Packet{Dst: dst, Service: point}
					in := all.Contains(dst, point)
					if seen[p] || !tryable(c, p) || in != some.Contains(dst, point) {
						continue
					}
					seen[p] = true
					out = append(out, edge(m, p, in))
				}
			}
		}
	}
	if len(out) <= most {
		return out
	}
	step := float64(len(out)) / float64(most) // evenly over all sets
	var kept []Trial
	for i := range most {
		kept = append(kept, out[int(float64(i)*step)])
	}
	return kept
}

func edge(m *site.Model, p site.Packet, in bool) Trial {
	t := Trial{Edge: true, Computed: in, Dst: p.Dst, Place: m.Place(p.Dst), Service: p.Service.String()}
	if n := m.Names.NetworkOf(p.Dst); n != nil {
		t.Network = n.Name
	}
	return t
}

// around is both ends of a span and what lies just outside.
func around(s netset.Span) []netip.Addr {
	out := []netip.Addr{s.From, s.To}
	for _, a := range []netip.Addr{s.From.Prev(), s.To.Next()} {
		if a.IsValid() && a.Is4() == s.From.Is4() {
			out = append(out, a)
		}
	}
	return slices.Compact(out)
}

// aroundRange is the same of services; of ICMP only what asks can be tried.
func aroundRange(r netset.Range) []netset.Point {
	switch p := r.From.Proto(); p {
	case netset.TCP, netset.UDP:
		out := []netset.Point{r.From}
		if r.To.Proto() == p {
			out = append(out, r.To)
		}
		if r.From.Port() > 0 {
			out = append(out, r.From-1)
		}
		if r.To.Proto() == p && r.To.Port() < 0xffff {
			out = append(out, r.To+1)
		}
		return slices.Compact(out)
	case netset.ICMP:
		return []netset.Point{netset.ICMPPoint(netset.ICMP, 8, 0)}
	case netset.ICMPv6:
		return []netset.Point{netset.ICMPPoint(netset.ICMPv6, 128, 0)}
	}
	return nil
}

// tryable tells whether a device can send the packet: of a family that it has an address of, to an ordinary address and port.
func tryable(c Class, p site.Packet) bool {
	if !c.Passage.Pool.HasFamily(p.Dst.Is4()) || plan.NeverRouted.Contains(p.Dst) {
		return false
	}
	switch p.Service.Proto() {
	case netset.ICMP:
		return p.Dst.Is4()
	case netset.ICMPv6:
		return p.Dst.Is6()
	}
	return p.Service.Port() > 0
}
