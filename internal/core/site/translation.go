package site

import (
	"net/netip"
	"reflect"
	"slices"
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
		m.nat = append(m.nat, entry{t, m.Names.Ends(t.From), m.Names.Ends(t.To)})
	}
}

// Source decides at the translation station: the source with which the packet leaves. ok is false where an entry translates and has no
// address.
func (m *Model) Source(p Packet, out Egress) (a netip.Addr, ok bool, ref Ref) {
	return m.sourceBy(m.entryFor(p, out), p, out)
}

// SourceInward does the same for a packet from inside towards a person's device, which leaves by a tunnel.
func (m *Model) SourceInward(p Packet) (a netip.Addr, ok bool, ref Ref) {
	return m.sourceBy(m.entryFor(p, Egress{}), p, Egress{})
}

func (m *Model) sourceBy(e *entry, p Packet, out Egress) (a netip.Addr, ok bool, ref Ref) {
	switch {
	case e == nil:
		return p.Src, true, Ref{List: "nat"}
	case e.Action == plan.Exempt:
		return p.Src, true, Ref{List: "nat", Name: e.Name}
	}
	a = m.translated(*e, out.Network, p.Dst.Is4())
	return a, a.IsValid(), Ref{List: "nat", Name: e.Name}
}

// SameTranslations tells whether both models translate alike whatever comes.
func (m *Model) SameTranslations(o *Model) bool {
	return m == o || reflect.DeepEqual(m.nat, o.nat) && reflect.DeepEqual(m.Gateway.Inside, o.Gateway.Inside) &&
		slices.Equal(m.Gateway.Outside.Addresses, o.Gateway.Outside.Addresses)
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
	return m.translate(p, out, "on "+out.Network)
}

// TranslateInward is the translation station of what is opened from inside, in words.
func (m *Model) TranslateInward(p Packet) (netip.Addr, Verdict) {
	return m.translate(p, Egress{}, "inside")
}

func (m *Model) translate(p Packet, out Egress, where string) (netip.Addr, Verdict) {
	e := m.entryFor(p, out)
	a, ok, ref := m.sourceBy(e, p, out)
	setting := ref.String()
	switch {
	case out.Self:
		return a, pass(setting, "stays at the gateway, nothing is translated")
	case e == nil:
		return a, pass(setting, "nothing translates it: the source stays %s", p.Src)
	case e.Action == plan.Exempt:
		return a, pass(setting, "exempt by %s: the source stays %s", e.Name, p.Src)
	case !ok:
		return a, lost(setting, "%s translates, but the gateway has no address of this family %s", e.Name, where)
	}
	return a, pass(setting, "%s translates the source to %s", e.Name, a)
}

// translated is the address that an entry gives on a way out; not valid if there is none of the family. No network at all is the way by a
// tunnel, where the gateway speaks from inside.
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
			if out == "" || at.Network == out {
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
	var out []Leaving
	rest := m.routed.Subtract(m.own).Intersect(family(src.Is4()))
	if own := m.own.Intersect(family(src.Is4())); len(own) > 0 {
		out = append(out, Leaving{own, src})
	}
	for _, e := range m.nat {
		if !e.from.Contains(src) {
			continue
		}
		for _, w := range m.ways {
			if e.Out != "" && e.Out != w.out {
				continue
			}
			mine := rest.Intersect(w.to).Intersect(e.to)
			if len(mine) == 0 {
				continue
			}
			rest = rest.Subtract(mine)
			leaves := src
			if e.Action == plan.Translate {
				leaves = m.translated(e, w.out, src.Is4())
			}
			out = append(out, Leaving{mine, leaves})
		}
	}
	return append(out, Leaving{rest, src})
}

// Arriving is a part of the sources inside with the source that their packets come to people with: As, or, where that is not valid, their
// own.
type Arriving struct {
	Src netset.Addrs
	As  netip.Addr
}

// ArrivingSet splits the sources of what is opened from inside towards an atom of people's addresses; what is lost in translation is not
// among them.
func (m *Model) ArrivingSet(atom netset.Addrs) []Arriving {
	dst := atom[0].From
	rest := m.OriginSet().Intersect(family(dst.Is4()))
	var out []Arriving
	for _, e := range m.nat {
		if e.Out != "" || !e.to.Contains(dst) {
			continue
		}
		mine := rest.Intersect(e.from)
		if len(mine) == 0 {
			continue
		}
		rest = rest.Subtract(mine)
		as := netip.Addr{}
		if e.Action == plan.Translate {
			if as = m.translated(e, "", dst.Is4()); !as.IsValid() {
				continue
			}
		}
		out = append(out, Arriving{mine, as})
	}
	return append(out, Arriving{Src: rest})
}

func family(v4 bool) netset.Addrs {
	if v4 {
		return netset.All4
	}
	return netset.All6
}

func itoa(i int) string { return strconv.Itoa(i) }
