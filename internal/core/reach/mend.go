package reach

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Mend gives the edits that let a packet through that is lost at a station, where that wants no decision: a permission for just the
// people, place and service, or a route for just the place. Where it does, there are none, and Fix says in words what is to be decided.
func Mend(m *site.Model, c *site.Class, p site.Packet, station, setting string, inward bool) []plan.Edit {
	peer, way := p.Dst, "to"
	if inward {
		peer, way = p.Src, "from"
	}
	switch {
	case station == site.Admission && c.Shut != nil:
		return []plan.Edit{{Op: "remove", Path: "tunnels/" + m.Off(c.Shut)[0] + "/off"}}
	case inward && station == site.Rules && strings.HasPrefix(setting, "nat/"):
		return Exempting(m, strings.TrimPrefix(setting, "nat/"), c.Passage.Passage.Pool, []string{networkOf(m, peer)})
	case station == site.Rules && setting == "rules":
		name := "let-" + c.Groups[0]
		if h := m.Names.HostAt(peer); h != nil {
			name += "-" + way + "-" + h.Name
		}
		for i, base := 2, name[:min(len(name), 50)]; slices.ContainsFunc(m.Plan.Rules,
			func(r plan.Rule) bool { return r.Name == name }); i++ {
			name = fmt.Sprintf("%s-%d", base, i)
		}
		return []plan.Edit{{
			Op: "add", Path: "rules",
			Value: fmt.Sprintf("{name: %s, action: permit, groups: [%s], %s: [%s], services: [%s]}", name, strings.Join(c.Groups, ", "), way, wordFor(m, peer), serviceWord(p)),
		}}
	case (station == site.Device || station == site.Selectors) && strings.HasSuffix(setting, "/routes"):
		return []plan.Edit{{Op: "add", Path: setting + "/split", Value: wordFor(m, peer)}}
	}
	return nil
}

// Exempting gives the edits that let networks open something towards a pool's people with their own addresses, before an entry translates
// it: by the exemption that stands before it already, or by another one.
func Exempting(m *site.Model, entry, pool string, networks []string) []plan.Edit {
	for _, t := range m.Plan.NAT {
		if t.Name == entry {
			break
		}
		if t.Off || t.Action != plan.Exempt || t.Gateway != m.Gateway.Name || t.Out != "" {
			continue
		}
		var out []plan.Edit
		for _, n := range networks {
			if len(t.From) > 0 && !slices.Contains(t.From, n) {
				out = append(out, plan.Edit{Op: "add", Path: "nat/" + t.Name + "/from", Value: n})
			}
		}
		if len(t.To) > 0 && !slices.Contains(t.To, pool) {
			out = append(out, plan.Edit{Op: "add", Path: "nat/" + t.Name + "/to", Value: pool})
		}
		return out
	}
	name := "keep-" + entry
	for i, base := 2, name; slices.ContainsFunc(m.Plan.NAT, func(t plan.Translation) bool { return t.Name == name }); i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return []plan.Edit{
		{Op: "add", Path: "nat", Value: fmt.Sprintf("{name: %s, gateway: %s, action: exempt, from: [%s], to: [%s]}", name, m.Gateway.Name,
			strings.Join(networks, ", "), pool)},
		{Op: "move", Path: "nat/" + name, Value: entry},
	}
}

// networkOf is how a translation names an address: by its network, or as itself.
func networkOf(m *site.Model, a netip.Addr) string {
	if n := m.Names.NetworkOf(a); n != nil {
		return n.Name
	}
	return wordFor(m, a)
}

// MendAll mends every station at which a packet is lost; none, if one of them wants a decision.
func MendAll(m *site.Model, c *site.Class, p site.Packet, j site.Journey, inward bool) []plan.Edit {
	var out []plan.Edit
	for _, step := range j.Steps {
		if step.OK || step.Station == site.Selectors { // the selectors are the routes once more
			continue
		}
		mend := Mend(m, c, p, step.Station, step.Setting, inward)
		if mend == nil {
			return nil
		}
		out = append(out, mend...)
	}
	return out
}

// wordFor is how a rule or route names an address: by its host, or as itself.
func wordFor(m *site.Model, a netip.Addr) string {
	if h := m.Names.HostAt(a); h != nil {
		return h.Name
	}
	if a.Is6() {
		return fmt.Sprintf("%q", a.String())
	}
	return a.String()
}

func serviceWord(p site.Packet) string {
	if word := p.Service.String(); !strings.HasSuffix(word, "/echo") {
		return word
	}
	return "ping"
}
