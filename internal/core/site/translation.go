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

// Source decides at the translation station: the source with which the packet leaves. ok is false where an entry translates and has no
// address.
func (m *Model) Source(p Packet, out Egress) (a netip.Addr, ok bool, ref Ref) {
	e := m.entryFor(p, out)
	switch {
	case e == nil:
		return p.Src, true, Ref{List: "nat"}
	case e.Action == plan.Exempt:
		return p.Src, true, Ref{List: "nat", Name: e.Name}
	}
	a = m.translated(*e, out.Network, p.Dst.Is4())
	return a, a.IsValid(), Ref{List: "nat", Name: e.Name}
}

// entryFor is the first entry that is about the packet; nil if none is.
func (m *Model) entryFor(p Packet, out Egress) *entry {
	if out.Self {
		return nil
	}
	for i := range m.nat {
		if e := &m.nat[i]; (e.Out == "" || e.Out == out.Network) && e.from.Contains(p.Src) && e.to.Contains(p.Dst) {
			return e
		}
	}
	return nil
}

// Translate is the translation station, in words.
func (m *Model) Translate(p Packet, out Egress) (netip.Addr, Verdict) {
	a, ok, ref := m.Source(p, out)
	setting, e := ref.String(), m.entryFor(p, out)
	switch {
	case out.Self:
		return a, pass(setting, "stays at the gateway, nothing is translated")
	case e == nil:
		return a, pass(setting, "nothing translates it: the source stays %s", p.Src)
	case e.Action == plan.Exempt:
		return a, pass(setting, "exempt by %s: the source stays %s", e.Name, p.Src)
	case !ok:
		return a, lost(setting, "%s translates, but has no address of this family on %s", e.Name, out.Network)
	}
	return a, pass(setting, "%s translates the source to %s", e.Name, a)
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
