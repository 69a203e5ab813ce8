package site

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

const internet = plan.Internet

var neverRouted = plan.NeverRouted

// device is a router around the gateway, or the gateway itself as its neighbours see it.
type device struct {
	name    string
	gateway bool
	table   longest[way]
}

// way is one entry of a device's table: an attached network, or a route by a next hop.
type way struct {
	to      netip.Prefix
	network *plan.Network // attached, or
	via     netip.Addr    // next hop
	setting string
}

func (w way) prefix() netip.Prefix { return w.to }

// cell is a stretch of destinations between two neighbouring boundaries of the plan: all of it lies in the same
// network and fares alike on the way there.
type cell struct {
	span    netset.Span
	network *plan.Network
	onward  bool
}

func (m *Model) compileSurroundings() {
	m.devices, m.owners = map[string]*device{}, map[netip.Addr]string{}
	for i := range m.Plan.Routers {
		r := &m.Plan.Routers[i]
		d := &device{name: r.Name}
		var ways []way
		seen := map[netip.Prefix]bool{}
		for _, a := range r.Addresses {
			if _, taken := m.owners[a]; !taken {
				m.owners[a] = r.Name
			}
			if net := m.Names.NetworkOf(a); net != nil {
				for _, p := range net.Prefixes {
					if p = p.Masked(); !seen[p] {
						seen[p] = true
						ways = append(ways, way{to: p, network: net})
					}
				}
			}
		}
		attached := longestOf(ways)
		for j, route := range r.Routes {
			if _, ok := attached.find(route.Via); ok {
				ways = append(ways, way{to: route.To.Masked(), via: route.Via, setting: "routers/" + r.Name + "/routes/" + itoa(j)})
			}
		}
		d.table = longestOf(ways)
		m.devices[r.Name] = d
	}
	for i := range m.Plan.Gateways {
		g := &m.Plan.Gateways[i]
		m.devices[g.Name] = &device{name: g.Name, gateway: g.Name == m.Gateway.Name}
		for _, at := range g.Inside {
			for _, a := range at.Addresses {
				m.owners[a] = g.Name
			}
		}
	}
	m.compileCells()
}

func (m *Model) compileCells() {
	starts := []netip.Addr{}
	cut := func(p netip.Prefix) {
		s := netset.PrefixSpan(p)
		starts = append(starts, s.From)
		if next := s.To.Next(); next.IsValid() {
			starts = append(starts, next)
		}
	}
	cut(netip.MustParsePrefix("0.0.0.0/0"))
	cut(netip.MustParsePrefix("::/0"))
	for _, h := range m.table.entries {
		cut(h.to)
	}
	for _, d := range m.devices {
		for _, w := range d.table.entries {
			cut(w.to)
		}
	}
	for _, n := range m.Plan.Networks {
		for _, p := range n.Prefixes {
			cut(p)
		}
	}
	for _, s := range m.Names.InternetAddrs() { // where the internet begins and ends
		starts = append(starts, s.From)
		if next := s.To.Next(); next.IsValid() {
			starts = append(starts, next)
		}
	}
	slices.SortFunc(starts, netip.Addr.Compare)
	starts = slices.Compact(starts)
	for i, from := range starts {
		to := netset.Last(netip.PrefixFrom(from, 0))
		if i+1 < len(starts) && starts[i+1].Is4() == from.Is4() {
			to = starts[i+1].Prev()
		}
		c := cell{span: netset.Span{From: from, To: to}, network: m.Names.NetworkOf(from)}
		if h, ok := m.table.find(from); ok {
			c.onward = m.Carry(Packet{Dst: from}, h.egress).OK
		}
		m.cells = append(m.cells, c)
		if c.onward {
			m.onward = append(m.onward, c.span)
		}
	}
	m.onward = netset.OfSpans(m.onward...).Union(m.own)
	m.compileReturns()
	m.cuts = m.sourceCuts()
}

// Carry is the onward station: from the gateway to the destination's network.
func (m *Model) Carry(p Packet, out Egress) Verdict {
	if out.Self {
		return pass("gateways/"+m.Gateway.Name, "arrived: it is the gateway itself")
	}
	if out.Network == internet {
		if !m.Names.InternetAddrs().Contains(p.Dst) {
			return lost("networks", "%s is sent to the internet, which does not carry it: it is private, or belongs inside", p.Dst)
		}
		return pass("gateways/"+m.Gateway.Name+"/internet", "carried by the internet")
	}
	home := m.Names.NetworkOf(p.Dst)
	if !out.NextHop.IsValid() {
		return m.onLink(p.Dst, m.Names.Networks[out.Network], home, "the gateway")
	}
	at := out.NextHop
	for range len(m.Plan.Routers) + 1 { // more routers than there are: one comes a second time, and sends it the same way again
		owner, known := m.owners[at]
		if !known {
			return lost("routers", "next hop %s belongs to no router of the plan", at)
		}
		d := m.devices[owner]
		if d.gateway {
			return lost("routers", "the way to %s leads back to the gateway", p.Dst)
		}
		w, ok := d.table.find(p.Dst)
		if !ok {
			return lost("routers/"+owner+"/routes", "router %s has no route to %s", owner, p.Dst)
		}
		if w.network != nil {
			return m.onLink(p.Dst, w.network, home, "router "+owner)
		}
		at = w.via
	}
	return lost("routers", "the routers pass %s round in a loop", p.Dst)
}

func (m *Model) onLink(dst netip.Addr, link, home *plan.Network, who string) Verdict {
	if home != link {
		return lost("networks", "%s looks for %s on network %s, but it is on %s", who, dst, link.Name, networkName(home))
	}
	return pass("networks/"+link.Name, "%s delivers it on network %s", who, link.Name)
}

// OnwardSet is the destinations that the onward station lets through.
func (m *Model) OnwardSet() netset.Addrs { return m.onward }

// WayBack is the return station: from the destination's network to the gateway, for an answer to src (as the packet
// left the gateway), by a link that leads to where it comes from.
func (m *Model) WayBack(p Packet, out Egress, src netip.Addr) Verdict {
	if out.Self {
		return pass("gateways/"+m.Gateway.Name, "the gateway answers by itself")
	}
	home := m.Names.NetworkOf(p.Dst)
	if home == nil {
		return m.hidden(p, out, src, m.believed(p.Dst, m.backFromInternet(src)))
	}
	return m.hidden(p, out, src, m.believed(p.Dst, m.backFrom(home, src)))
}

// hidden names the translation where the answer is lost because that hides the source behind an address that is not the gateway's.
func (m *Model) hidden(p Packet, out Egress, src netip.Addr, v Verdict) Verdict {
	if e := m.entryFor(p, out); !v.OK && e != nil && src != p.Src && !m.own.Contains(src) {
		return lost("nat/"+e.Name+"/address", "%s translates the source to %s, which is no address of gateway %s, and no way back from there leads to it",
			e.Name, src, m.Gateway.Name)
	}
	return v
}

// came is a way to the gateway: the network of its by which a packet comes in the end.
type came struct {
	Verdict
	by string
}

// believed loses what comes to the gateway by another link than one that leads to its source (docs/semantics.md, "Origin").
func (m *Model) believed(source netip.Addr, c came) Verdict {
	if !c.OK || m.leads(source, c.by) {
		return c.Verdict
	}
	return lost(c.Setting, "it comes to the gateway from %s, and the gateway believes what says that it is from %s only where it comes from %s",
		c.by, source, m.wayTo(source))
}

func (m *Model) wayTo(a netip.Addr) string {
	if h, ok := m.table.find(a); ok {
		return h.egress.Network
	}
	return "nowhere"
}

func (m *Model) backFromInternet(src netip.Addr) came {
	if slices.Contains(m.Gateway.Outside.Addresses, src) {
		return came{pass("gateways/"+m.Gateway.Name+"/outside", "the internet brings the answer back to %s", src), internet}
	}
	return came{Verdict: lost("nat", "nothing translates %s on the way out, and the internet knows no way back to it", src)}
}

func (m *Model) backFrom(home *plan.Network, src netip.Addr) came {
	if holds(home, src) {
		return m.backOnLink(home, src)
	}
	setting := "networks/" + home.Name + "/router"
	if home.Router == "" {
		return came{Verdict: lost(setting, "network %s has no router, so its hosts know no way to %s", home.Name, src)}
	}
	return m.backVia(home.Router, home.Name, src, setting)
}

// backVia follows the answer from a network's router on; by is where it is handed to it. It depends on nothing else, which ReturnSet relies
// on.
func (m *Model) backVia(router, by string, src netip.Addr, setting string) came {
	for range len(m.Plan.Routers) + 1 { // each router, and the gateway after them
		d := m.devices[router]
		switch {
		case d == nil:
			return came{Verdict: lost(setting, "router %s is not in the plan", router)}
		case d.gateway:
			return came{pass(setting, "the way back leads to the gateway"), by}
		}
		w, ok := d.table.find(src)
		if !ok {
			return came{Verdict: lost("routers/"+router+"/routes", "router %s has no route back to %s", router, src)}
		}
		if w.network != nil {
			return m.backOnLink(w.network, src)
		}
		owner, known := m.owners[w.via]
		if !known {
			return came{Verdict: lost(w.setting,
				"router %s sends what is for %s to %s, which is not the gateway and no router of the plan", router,
				src, w.via)}
		}
		router, setting, by = owner, w.setting, networkName(m.Names.NetworkOf(w.via))
	}
	return came{Verdict: lost(setting, "the routers pass what is for %s round in a loop", src)}
}

func (m *Model) backOnLink(link *plan.Network, src netip.Addr) came {
	setting := "networks/" + link.Name
	here := slices.ContainsFunc(m.Gateway.Inside, func(at plan.Attachment) bool { return at.Network == link.Name })
	if here {
		if m.own.Contains(src) {
			return came{pass(setting, "it goes to the gateway's address %s on %s", src, link.Name), link.Name}
		}
		for i := range m.Plan.Pools {
			if p := &m.Plan.Pools[i]; p.CarvedFrom == link.Name && p.Space().Contains(src) {
				return came{pass("pools/"+p.Name+"/carved-from", "the gateway answers on %s for pool %s", link.Name, p.Name), link.Name}
			}
		}
	}
	return came{Verdict: lost(setting, "%s looks like a neighbour on %s, and nobody there answers for it", src, link.Name)}
}

func holds(n *plan.Network, a netip.Addr) bool {
	return slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return p.Masked().Contains(a) })
}

// SourceAtoms splits a pool into parts whose addresses all fare alike at every station that looks at the source. The one with the lowest
// address comes first, whatever the order in which the plan has what splits them.
func (m *Model) SourceAtoms(pool netset.Addrs) []netset.Addrs {
	var atoms []netset.Addrs
	for _, family := range []netset.Addrs{netset.All4, netset.All6} {
		if part := pool.Intersect(family); len(part) > 0 {
			atoms = append(atoms, part)
		}
	}
	for _, cut := range m.cuts {
		if !cut.Overlaps(pool) {
			continue
		}
		var next []netset.Addrs
		for _, a := range atoms {
			in, out := a.Intersect(cut), a.Subtract(cut)
			for _, part := range []netset.Addrs{in, out} {
				if len(part) > 0 {
					next = append(next, part)
				}
			}
		}
		atoms = next
	}
	slices.SortFunc(atoms, func(a, b netset.Addrs) int { return a[0].From.Compare(b[0].From) })
	return atoms
}

// sourceCuts is every set that a station tests a source against.
func (m *Model) sourceCuts() []netset.Addrs {
	cuts := []netset.Addrs{m.own}
	for _, e := range m.nat {
		cuts = append(cuts, e.from, e.to)
	}
	for _, n := range m.Plan.Networks {
		cuts = append(cuts, span(n.Prefixes...))
	}
	for _, d := range m.devices {
		for _, w := range d.table.entries {
			cuts = append(cuts, span(w.to))
		}
	}
	for i := range m.Plan.Pools {
		if m.Plan.Pools[i].CarvedFrom != "" {
			cuts = append(cuts, m.Plan.Pools[i].Space())
		}
	}
	return cuts
}

func networkName(n *plan.Network) string {
	if n == nil {
		return "no network of the plan"
	}
	return n.Name
}

// Place names an address for people: host, network, internet, or the address itself.
func (m *Model) Place(a netip.Addr) string {
	if h := m.Names.HostAt(a); h != nil {
		return h.Name + " (" + a.String() + ")"
	}
	if n := m.Names.NetworkOf(a); n != nil {
		return a.String() + " on " + n.Name
	}
	if m.Names.InternetAddrs().Contains(a) {
		return a.String() + " on the internet"
	}
	return a.String()
}
