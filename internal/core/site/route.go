package site

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

// Egress is the way by which a packet leaves the gateway.
type Egress struct {
	Self    bool       // delivered to the gateway itself
	Network string     // attached network; plan.Internet for the outside link
	NextHop netip.Addr // router on that network; not valid: the destination itself
}

// hop is one entry of the gateway's table.
type hop struct {
	to      netip.Prefix
	egress  Egress
	setting string
}

func (h hop) prefix() netip.Prefix { return h.to }

func (m *Model) compileRoutes() {
	g := m.Gateway
	var table []hop
	base := "gateways/" + g.Name
	m.own = netset.OfAddrs(g.Outside.Addresses...)
	m.never = neverRouted.Union(m.page)
	for i, at := range g.Inside {
		m.own = m.own.Union(netset.OfAddrs(at.Addresses...))
		net := m.Names.Networks[at.Network]
		if net == nil {
			continue
		}
		for _, p := range net.Prefixes {
			table = append(table, hop{p.Masked(), Egress{Network: net.Name}, base + "/inside/" + itoa(i)})
			if p.Addr().Is4() && p.Bits() <= 30 {
				m.never = m.never.Union(netset.OfAddrs(p.Masked().Addr(), netset.Last(p)))
			}
		}
	}
	attached := longestOf(table) // a next hop is on the most specific attached network that holds it
	for i, r := range g.Routes {
		if on, ok := attached.find(r.Via); ok {
			table = append(table, hop{r.To.Masked(), Egress{Network: on.egress.Network, NextHop: r.Via}, base + "/routes/" + itoa(i)})
		}
	}
	if g.Internet {
		for _, all := range []string{"0.0.0.0/0", "::/0"} {
			table = append(table, hop{netip.MustParsePrefix(all), Egress{Network: internet}, base + "/internet"})
		}
	}
	m.table = longestOf(table)
	var pools netset.Addrs
	for i := range m.Plan.Pools {
		pools = append(pools, m.Plan.Pools[i].Space()...)
	}
	m.pools = netset.OfSpans(pools...)
	led := make([]netip.Prefix, 0, len(table))
	for _, h := range table {
		led = append(led, h.to)
	}
	m.notMeant = neverRouted.Union(m.never).Union(m.own).Union(m.pools)
	m.routed = span(led...).Subtract(m.pools).Union(m.own).Subtract(m.never)
	m.ways = m.waysOut()
}

// routing is what decided at the route station.
type routing uint8

const (
	neverRoutes routing = iota
	answersItself
	otherPerson
	noWay
	byTable
)

// RouteTo decides at the route station.
func (m *Model) RouteTo(p Packet) (Egress, bool, Ref) {
	h, why := m.routing(p)
	ref := Ref{List: "gateways", Name: m.Gateway.Name}
	switch why {
	case neverRoutes:
		ref.Field = "inside"
	case answersItself:
		return Egress{Self: true}, true, ref
	case otherPerson:
		return Egress{}, false, Ref{List: "pools"}
	case noWay:
		ref.Field = "routes"
	case byTable:
		return h.egress, true, Ref{List: h.setting}
	}
	return Egress{}, false, ref
}

// routing finds the entry of the table that leads to a packet's destination, or what stands before the table.
func (m *Model) routing(p Packet) (hop, routing) {
	if m.notMeant.Contains(p.Dst) { // one search for what is mostly none of them
		switch {
		case m.never.Contains(p.Dst):
			return hop{}, neverRoutes
		case m.own.Contains(p.Dst):
			return hop{}, answersItself
		case m.pools.Contains(p.Dst):
			return hop{}, otherPerson
		}
	}
	if h, ok := m.table.find(p.Dst); ok {
		return h, byTable
	}
	return hop{}, noWay
}

// Route is the route station, in words.
func (m *Model) Route(p Packet) (Egress, Verdict) {
	out, _, ref := m.RouteTo(p)
	h, why := m.routing(p)
	setting := ref.String()
	switch why {
	case neverRoutes:
		return out, lost(setting, "%s is never routed: it is special or a broadcast address", p.Dst)
	case answersItself:
		if echo.Contains(p.Service) {
			return out, pass(setting, "%s is the gateway's own: it answers", p.Dst)
		}
		return out, pass(setting, "%s is the gateway's own: its machine answers", p.Dst)
	case otherPerson:
		return out, lost(setting, "%s belongs to a pool: one person does not reach another", p.Dst)
	case noWay:
		return out, lost(setting, "the gateway has no route to %s", p.Dst)
	}
	switch {
	case out.NextHop.IsValid():
		return out, pass(setting, "routed to %s by way of %s on %s", h.to, out.NextHop, out.Network)
	case out.Network == internet:
		return out, pass(setting, "routed to the internet")
	}
	return out, pass(setting, "on the attached network %s", out.Network)
}

// RouteSet is the traffic that the route station lets through.
func (m *Model) RouteSet() netset.Traffic {
	return netset.Of(m.routed, netset.AnyService)
}

// wayOut is a way out with the destinations that take it.
type wayOut struct {
	out string
	to  netset.Addrs
}

// waysOut is every way out, in the order in which the table first names it.
func (m *Model) waysOut() (out []wayOut) {
	var claimed netset.Addrs
	for _, h := range m.table.entries {
		mine := span(h.to).Subtract(claimed)
		claimed = claimed.Union(mine)
		at := slices.IndexFunc(out, func(w wayOut) bool { return w.out == h.egress.Network })
		if at < 0 {
			at, out = len(out), append(out, wayOut{out: h.egress.Network})
		}
		out[at].to = out[at].to.Union(mine.Subtract(m.own))
	}
	return out
}

var echo = netset.ICMPType(netset.ICMP, 8).Union(netset.ICMPType(netset.ICMPv6, 128)).
	Intersect(netset.Opening4.Union(netset.Opening6))

// OwnAddresses is every address of the gateway itself.
func (m *Model) OwnAddresses() netset.Addrs { return m.own }

// NotMeant are addresses that nobody means who names a network or a prefix: what is never routed, the gateway's own, and people's own
// where a pool is carved from it.
func (m *Model) NotMeant() netset.Addrs {
	return m.notMeant
}

// RouteOf finds the way for a packet of the gateway's own; ok is false if there is none.
func (m *Model) RouteOf(b []byte) (Egress, bool) {
	info, err := packet.Parse(b)
	if err != nil {
		return Egress{}, false
	}
	h, ok := m.table.find(info.Dst)
	return h.egress, ok
}
