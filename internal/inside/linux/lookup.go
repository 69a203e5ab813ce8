package linux

import (
	"net/netip"

	"github.com/vishvananda/netlink"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
)

// Lookup asks the kernel where it would send a packet, and holds it against the plan that runs; false where no plan runs.
func (p *Port) Lookup(dst netip.Addr) (inside.Looked, bool) {
	p.mu.Lock()
	want := p.want
	p.mu.Unlock()
	if want == nil {
		return inside.Looked{}, false
	}
	m, err := look(p.device)
	if err != nil {
		return inside.Looked{}, false
	}
	out := inside.Looked{Way: "nowhere: no route", Planned: "nowhere"}
	link, via := planned(want, m.assign(*want, p.device), dst)
	if link != "" {
		out.Planned = "dev " + link
		if via.IsValid() {
			out.Planned = "via " + via.String() + " dev " + link
		}
	}
	routes, err := netlink.RouteGet(dst.AsSlice())
	if err != nil || len(routes) == 0 {
		out.Same = link == ""
		return out, true
	}
	got := placedOf(routes[0])
	out.Way = "dev " + m.nameOf(got.link)
	if got.via.IsValid() {
		out.Way = "via " + got.via.String() + " dev " + m.nameOf(got.link)
	}
	// Where the plan knows no next hop, such as on the internet, any of that link is right.
	out.Same = m.nameOf(got.link) == link && (!via.IsValid() || via == got.via)
	return out, true
}

// planned is the link and next hop by which a plan sends to an address.
func planned(d *inside.Desired, l kernel.Links, dst netip.Addr) (link string, via netip.Addr) {
	for _, w := range d.Ways {
		if w.Leads.Contains(dst) {
			link = l.Of[w.Network]
		}
	}
	bits := -1
	for _, at := range d.Attached {
		for _, p := range at.Prefixes {
			if p.Contains(dst) {
				bits = max(bits, p.Bits())
			}
		}
	}
	for _, r := range d.Routes {
		if !r.Spare && r.To.Contains(dst) && r.To.Bits() > bits {
			bits, via = r.To.Bits(), r.Via
		}
	}
	return link, via
}
