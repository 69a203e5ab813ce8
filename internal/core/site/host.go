package site

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Wanted is what the plan wants of a host whose kernel routes and translates (docs/semantics.md, "Where it is enforced").
func (m *Model) Wanted() inside.Desired {
	d := inside.Desired{Gateway: m.Gateway.Name, People: m.pools, Outside: m.Gateway.Outside.Addresses}
	if h := m.Gateway.Machine; h != nil {
		d.MayChange, d.Mends = h.Settings == plan.SetThem, h.Drift == plan.MendIt
	}
	for i := range m.Plan.Pools {
		p := &m.Plan.Pools[i]
		d.Pools = append(d.Pools, inside.Pool{Name: p.Name, Prefixes: p.Space().Prefixes(), MTU: m.poolMTU(p.Name)})
	}
	for _, at := range m.Gateway.Inside {
		if n := m.Names.Networks[at.Network]; n != nil {
			d.Attached = append(d.Attached, inside.Attached{Network: n.Name, Prefixes: n.Prefixes, Addresses: at.Addresses})
		}
	}
	first := map[netip.Prefix]bool{}
	for _, h := range m.table.entries {
		if h.egress.NextHop.IsValid() {
			d.Routes = append(d.Routes, inside.Route{To: h.to, Via: h.egress.NextHop, Network: h.egress.Network, Spare: first[h.to]})
		}
		first[h.to] = true
	}
	d.Ways = m.hostWays()
	for _, e := range m.nat {
		d.Translations = append(d.Translations, m.hostTranslations(e, d.Ways)...)
	}
	return d
}

// poolMTU is the largest packet that all tunnels carry by which people of a pool come.
func (m *Model) poolMTU(pool string) int {
	mtu := 0
	for i := range m.passages {
		p := &m.passages[i]
		if p.Passage.Pool != pool {
			continue
		}
		for _, name := range p.Tunnels {
			if t := m.Names.Tunnels[name]; t != nil && t.Gateway == m.Gateway.Name && !t.Off && (mtu == 0 || t.InnerMTU() < mtu) {
				mtu = t.InnerMTU()
			}
		}
	}
	if mtu == 0 {
		return plan.DefaultMTU
	}
	return mtu
}

// hostWays are the ways out, with what each leads to and who is believed to come by it.
func (m *Model) hostWays() []inside.Way {
	believed := m.OriginSet()
	leads := map[string]netset.Addrs{}
	var claimed netset.Addrs // by longer prefixes
	var those []netip.Prefix // of one length
	all := m.table.entries
	comes := map[string][]netset.Span{}
	for i, h := range all {
		if i > 0 && all[i-1].to.Bits() > h.to.Bits() {
			claimed, those = claimed.Union(span(those...)), nil
		}
		those = append(those, h.to)
		comes[h.egress.Network] = append(comes[h.egress.Network], span(h.to).Subtract(claimed)...)
	}
	for _, w := range m.ways {
		leads[w.out] = w.to.Intersect(m.routed)
	}
	var out []inside.Way
	for way := range leads {
		out = append(out, inside.Way{Network: way, Leads: leads[way], Comes: netset.OfSpans(comes[way]...).Intersect(believed)})
	}
	for way := range comes {
		if _, known := leads[way]; !known {
			out = append(out, inside.Way{Network: way, Comes: netset.OfSpans(comes[way]...).Intersect(believed)})
		}
	}
	slices.SortFunc(out, func(a, b inside.Way) int {
		switch { // the internet last
		case (a.Network == internet) != (b.Network == internet):
			return compareBools(a.Network == internet, b.Network == internet)
		case a.Network < b.Network:
			return -1
		}
		return 1
	})
	return out
}

func compareBools(a, b bool) int {
	if a == b {
		return 0
	}
	if b {
		return -1
	}
	return 1
}

// hostTranslations takes an entry apart by the ways between which it acts: what it translates to depends on the way out.
func (m *Model) hostTranslations(e entry, ways []inside.Way) (out []inside.Translation) {
	type end struct {
		way  string
		from netset.Addrs
		to   netset.Addrs
	}
	ends := []end{{inside.Tunnels, m.pools, m.pools}}
	for _, w := range ways {
		ends = append(ends, end{w.Network, w.Comes, w.Leads})
	}
	for _, in := range ends {
		for _, to := range ends {
			if in.way == internet && to.way != inside.Tunnels {
				continue // what comes from there is nobody's of this site
			}
			if in.way == inside.Tunnels && to.way == inside.Tunnels || e.Out != "" && e.Out != to.way {
				continue
			}
			for _, v4 := range []bool{true, false} {
				t := inside.Translation{
					Entry: e.Name, In: in.way, Out: to.way, Exempt: e.Action == plan.Exempt,
					From: e.from.Intersect(in.from).Intersect(family(v4)), To: e.to.Intersect(to.to).Intersect(family(v4)),
				}
				if len(t.From) == 0 || len(t.To) == 0 {
					continue
				}
				if !t.Exempt {
					t.As = m.translated(e, to.way, v4)
				}
				out = append(out, t)
			}
		}
	}
	return out
}
