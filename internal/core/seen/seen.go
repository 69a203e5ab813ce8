// Package seen holds what a mirror elsewhere saw of a gateway, and what follows from it for a plan: evidence, where a plan only says how
// the outside is believed to be.
package seen

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/plan"
)

// What came of knocking at a port.
const (
	Answers = "answers" // IKE is spoken there
	Open    = "open"    // a TCP connection opens, and nobody speaks IKE on it
	Silent  = "silent"  // nothing came back
	Closed  = "closed"  // refused at once
)

// Port is one that is knocked at.
type Port struct {
	Proto  string `json:"proto" enum:"udp,tcp"`
	Port   uint16 `json:"port"`
	Marked bool   `json:"marked,omitempty" doc:"Messages stand behind a marker there, as at UDP 4500."`
}

func (p Port) String() string { return fmt.Sprintf("%s/%d", p.Proto, p.Port) }

// Knocked is what came of one port.
type Knocked struct {
	Port
	Result string `json:"result" enum:"answers,open,silent,closed"`
}

// Evidence is what one mirror saw.
type Evidence struct {
	At       time.Time  `json:"at"`
	Mirror   string     `json:"mirror"`
	Revision int        `json:"revision" doc:"The newest then."`
	Seen     netip.Addr `json:"seen" doc:"The address that the gateway's machine is seen at."`
	Knocked  []Knocked  `json:"knocked" nullable:"false"`
}

// Old is for how long it says something of now.
const Old = 30 * 24 * time.Hour

// Kinds of what follows.
const (
	AsPlanned = "as-planned" // seen at the address that the plan says
	Elsewhere = "elsewhere"  // seen at another
	Moved     = "moved"      // seen at another, and the plan says that it changes
	Reached   = "reached"    // ports
	Shut      = "shut"       // ports that are not reached, and others are
	AllShut   = "all-shut"
)

// Consequence is one thing that follows.
type Consequence struct {
	Kind  string
	Path  string // of the setting
	Words string
	Mend  string
	Edits []plan.Edit // where it wants no decision
}

// PortsOf are the ports at which a gateway's tunnels are dialled.
func PortsOf(p *plan.Plan, gateway string) (out []Port) {
	for _, t := range p.Tunnels {
		kind := plan.KindOf(t.Kind)
		if t.Gateway != gateway || t.Off || kind.Ports == nil {
			continue
		}
		for _, at := range kind.Ports(t) {
			proto, number, _ := strings.Cut(at.String(), "/")
			x := Port{Proto: proto}
			if _, err := fmt.Sscan(number, &x.Port); err != nil {
				continue
			}
			x.Marked = x.Port == 4500 && proto == "udp"
			if !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
	}
	return out
}

// Follows says what follows for a gateway of a plan; of ports, only for those that the plan still has.
func (e *Evidence) Follows(p *plan.Plan, g plan.Gateway) (out []Consequence) {
	if e == nil {
		return nil
	}
	return append(e.address(p, g), e.ports(p, g)...)
}

func (e *Evidence) address(p *plan.Plan, g plan.Gateway) []Consequence {
	path := "gateways/" + g.Name + "/outside"
	public := g.Outside.Addresses
	if f := g.Outside.InFront; f != nil {
		public, path = []netip.Addr{f.Address}, path+"/in-front/address"
	}
	sameFamily := slices.ContainsFunc(public, func(a netip.Addr) bool { return a.Is4() == e.Seen.Is4() })
	switch {
	case slices.Contains(public, e.Seen):
		return []Consequence{{
			Kind: AsPlanned, Path: path, Words: fmt.Sprintf("seen from %s at %s, as the plan says", e.Mirror, e.Seen),
		}}
	case !sameFamily:
		return nil
	case g.Outside.Changes:
		return []Consequence{{
			Kind: Moved, Path: path, Words: fmt.Sprintf("seen from %s at %s, and the plan says %s", e.Mirror, e.Seen, join(public)),
			Mend: "it changed since: the plan holds that day's, and the dialled name must lead to " + e.Seen.String(),
		}}
	}
	c := Consequence{
		Kind: Elsewhere, Path: path,
		Words: fmt.Sprintf("seen from %s at %s, and the plan says %s: who dials that arrives elsewhere", e.Mirror, e.Seen, join(public)),
		Mend:  "correct the address",
	}
	switch {
	case g.Outside.InFront != nil:
		c.Edits = []plan.Edit{{Op: "set", Path: path, Value: quoted(e.Seen)}}
	case !slices.ContainsFunc(public, func(a netip.Addr) bool { return !plan.Private.Contains(a) }):
		c.Mend = "a router in front translates: say so under in-front, with what it forwards"
		to := public[slices.IndexFunc(public, func(a netip.Addr) bool { return a.Is4() == e.Seen.Is4() })]
		var forwards []string
		for _, x := range PortsOf(p, g.Name) {
			forwards = append(forwards, fmt.Sprintf("{service: %s, to: %s}", x, quoted(to)))
		}
		c.Edits = []plan.Edit{{
			Op: "set", Path: path + "/in-front", Value: fmt.Sprintf("{address: %s, forwards: [%s]}", quoted(e.Seen), strings.Join(forwards, ", ")),
		}}
	default:
		c.Mend += "; if a router in front translates, say so under in-front, with its forwards"
	}
	return []Consequence{c}
}

func (e *Evidence) ports(p *plan.Plan, g plan.Gateway) (out []Consequence) {
	needed := PortsOf(p, g.Name)
	var reached, shut []string
	for _, k := range e.Knocked {
		switch {
		case !slices.Contains(needed, k.Port):
		case k.Result == Answers:
			reached = append(reached, k.String())
		case k.Result == Open:
			shut = append(shut, k.String()+" (something else answers)")
		default:
			shut = append(shut, k.String()+" ("+k.Result+")")
		}
	}
	path := "gateways/" + g.Name + "/outside"
	if len(reached) > 0 {
		out = append(out, Consequence{Kind: Reached, Path: path, Words: strings.Join(reached, ", ") + " reached from " + e.Mirror})
	}
	if len(shut) == 0 {
		return out
	}
	c := Consequence{
		Kind: AllShut, Path: path, Words: strings.Join(shut, ", ") + " not reached from " + e.Mirror,
		Mend: "the machine's own packet rules (yl host check), the provider's filter",
	}
	if f := g.Outside.InFront; f != nil && len(g.Outside.Addresses) > 0 {
		c.Path += "/in-front"
		c.Mend = fmt.Sprintf("the router in front (%s) must forward them to %s; then %s", f.Address, g.Outside.Addresses[0], c.Mend)
	}
	if len(reached) > 0 { // some devices get in
		c.Kind = Shut
	}
	return append(out, c)
}

// quoted is an address as it stands in a document: IPv6 has colons.
func quoted(a netip.Addr) string {
	if a.Is6() {
		return `"` + a.String() + `"`
	}
	return a.String()
}

func join(addrs []netip.Addr) string {
	var all []string
	for _, a := range addrs {
		all = append(all, a.String())
	}
	return strings.Join(all, ", ")
}
