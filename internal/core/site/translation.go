package site

import (
	"net/netip"
	"strconv"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// entry is a compiled exemption or translation.
type entry struct {
	*plan.Translation
	from, to netset.Addrs
}

func (m *Model) compileTranslations() {
	for i := range m.Plan.NAT {
		t := &m.Plan.NAT[i]
		if t.Off || t.Gateway != m.Gateway.Name {
			continue
		}
		e := entry{t, netset.Everywhere, netset.Everywhere}
		if len(t.From) > 0 {
			e.from = nil
			for _, w := range t.From {
				a, _ := m.Names.Source(w)
				e.from = e.from.Union(a)
			}
		}
		if len(t.To) > 0 {
			e.to = m.Names.Destinations(t.To)
		}
		m.nat = append(m.nat, e)
	}
}

// Translate is the translation station: the source with which the packet leaves.
func (m *Model) Translate(p Packet, out Egress) (netip.Addr, Verdict) {
	if out.Self {
		return p.Src, pass("nat", "stays at the gateway, nothing is translated")
	}
	for _, e := range m.nat {
		if e.Out != "" && e.Out != out.Network || !e.from.Contains(p.Src) || !e.to.Contains(p.Dst) {
			continue
		}
		setting := "nat/" + e.Name
		if e.Action == plan.Exempt {
			return p.Src, pass(setting, "exempt by %s: the source stays %s", e.Name, p.Src)
		}
		a := m.translated(e, out.Network, p.Dst.Is4())
		if !a.IsValid() {
			return a, lost(setting, "%s translates, but has no address of this family on %s", e.Name, out.Network)
		}
		return a, pass(setting, "%s translates the source to %s", e.Name, a)
	}
	return p.Src, pass("nat", "nothing translates it: the source stays %s", p.Src)
}

// translated is the address that an entry gives on a way out; not valid if there is none of the family.
func (m *Model) translated(e entry, out string, v4 bool) netip.Addr {
	if e.Address.IsValid() {
		if e.Address.Is4() == v4 {
			return e.Address
		}
		return netip.Addr{}
	}
	on := m.Gateway.Outside.Addresses
	if out != internet {
		on = nil
		for _, at := range m.Gateway.Inside {
			if at.Network == out {
				on = append(on, at.Addresses...)
			}
		}
	}
	for _, a := range on {
		if a.Is4() == v4 {
			return a
		}
	}
	return netip.Addr{}
}

// Leaving is a part of the destinations with the source that packets towards them leave with; not valid: they are lost.
type Leaving struct {
	Dst netset.Addrs
	Src netip.Addr
}

// TranslationSet splits the destinations of one source atom by the source that packets leave with. All addresses of
// an atom are treated alike; its first stands for an untranslated source.
func (m *Model) TranslationSet(atom netset.Addrs) []Leaving {
	src := atom[0].From
	family := netset.All6
	if src.Is4() {
		family = netset.All4
	}
	var out []Leaving
	rest := m.routed.Subtract(m.own).Intersect(family)
	if own := m.own.Intersect(family); len(own) > 0 {
		out = append(out, Leaving{own, src})
	}
	for _, e := range m.nat {
		if !e.from.Contains(src) {
			continue
		}
		for way, dsts := range m.ways {
			if e.Out != "" && e.Out != way {
				continue
			}
			mine := rest.Intersect(dsts).Intersect(e.to)
			if len(mine) == 0 {
				continue
			}
			rest = rest.Subtract(mine)
			leaves := src
			if e.Action == plan.Translate {
				leaves = m.translated(e, way, src.Is4())
			}
			out = append(out, Leaving{mine, leaves})
		}
	}
	return append(out, Leaving{rest, src})
}

func itoa(i int) string { return strconv.Itoa(i) }
