package outline

import (
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Drawn is how many boxes a column of the picture has at most: of a larger plan a part is drawn.
const Drawn = 14

// Picture is the site as the plan has it: who comes in how, the gateway, and what is behind it.
type Picture struct {
	Passages []Box `json:"passages" nullable:"false"`
	Tunnels  []Box `json:"tunnels" nullable:"false"`
	Gateway  *Box  `json:"gateway,omitempty" doc:"Not there: there is nothing to draw."`
	InFront  *Box  `json:"in-front,omitempty" doc:"The router in front of the gateway."`
	Internet bool  `json:"internet,omitempty" doc:"The gateway forwards to it."`
	Routers  []Box `json:"routers" nullable:"false"`
	Networks []Box `json:"networks" nullable:"false" doc:"Those of a zone beside each other."`
	Ways     []Way `json:"ways" nullable:"false"`
	LeftOut  int   `json:"left-out" doc:"Passages and networks that are not drawn."`
}

// Box is one thing in the picture.
type Box struct {
	Path  string   `json:"path" doc:"The object."`
	Title string   `json:"title"`
	Lines []string `json:"lines" nullable:"false"`
	Off   bool     `json:"off,omitempty"`
	Zone  string   `json:"zone,omitempty"`
}

// Way is a link between two boxes, by their paths, or the word internet.
type Way struct {
	From     string   `json:"from"`
	To       string   `json:"to"`
	Passages []string `json:"passages" nullable:"false" doc:"Whose devices send packets this way."`
}

// draw gives the picture of a plan.
func draw(p, settled *plan.Plan, n *plan.Names) Picture {
	out := Picture{Passages: []Box{}, Tunnels: []Box{}, Routers: []Box{}, Networks: []Box{}, Ways: []Way{}}
	if len(p.Gateways) == 0 {
		return out
	}
	g := &p.Gateways[0]
	passages := settled.Passages[:min(Drawn, len(settled.Passages))]
	networks := slices.Clone(p.Networks[:min(Drawn, len(p.Networks))])
	slices.SortStableFunc(networks, func(a, b plan.Network) int { return strings.Compare(or(a.Zone, "~"), or(b.Zone, "~")) })
	out.LeftOut = len(settled.Passages) - len(passages) + len(p.Networks) - len(networks)
	out.Internet = g.Internet
	out.Gateway = gatewayBox(p, g)
	if r := g.Outside.InFront; r != nil {
		out.InFront = &Box{Path: "gateways/" + g.Name, Title: "router in front", Lines: []string{r.Address.String()}}
	}
	for _, t := range p.Tunnels[:min(Drawn, len(p.Tunnels))] {
		b := Box{Path: "tunnels/" + t.Name, Title: t.Name, Off: t.Off, Lines: []string{t.Kind + ", " + t.Login}}
		if t.Identity != "" {
			b.Lines = append(b.Lines, t.Identity)
		}
		out.Tunnels = append(out.Tunnels, b)
	}
	for _, x := range passages {
		out.Passages = append(out.Passages, Box{
			Path: "passages/" + x.Name, Title: x.Name, Off: x.Off,
			Lines: []string{"who: " + strings.Join(x.Groups, ", "), "addresses: " + or(x.Pool, "none"), "routes: " + routes(x.Routes)},
		})
	}
	for _, r := range p.Routers[:min(Drawn, len(p.Routers))] {
		b := Box{Path: "routers/" + r.Name, Title: r.Name, Lines: []string{}}
		if len(r.Addresses) > 0 {
			b.Lines = append(b.Lines, r.Addresses[0].String())
		}
		out.Routers = append(out.Routers, b)
	}
	hosts := map[string][]string{}
	for i := range p.Hosts {
		if at := n.NetworkOf(p.Hosts[i].First()); at != nil {
			hosts[at.Name] = append(hosts[at.Name], p.Hosts[i].Name)
		}
	}
	for i := range networks {
		out.Networks = append(out.Networks, networkBox(&networks[i], hosts[networks[i].Name]))
	}
	out.Ways = ways(p, n, g, passages, networks, out.Tunnels)
	return out
}

func gatewayBox(p *plan.Plan, g *plan.Gateway) *Box {
	b := &Box{Path: "gateways/" + g.Name, Title: g.Name, Lines: []string{g.Dial}}
	for _, a := range g.Outside.Addresses {
		b.Lines = append(b.Lines, "outside "+a.String())
	}
	for _, at := range g.Inside {
		if len(at.Addresses) > 0 {
			b.Lines = append(b.Lines, fmt.Sprintf("in %s %s", at.Network, at.Addresses[0]))
		}
	}
	entries := 0
	for _, x := range p.NAT {
		if x.Gateway == g.Name && !x.Off && entries < 4 {
			entries++
			b.Lines = append(b.Lines, x.Action+" "+x.Name)
		}
	}
	return b
}

func networkBox(x *plan.Network, hosts []string) Box {
	b := Box{Path: "networks/" + x.Name, Title: x.Name, Zone: x.Zone, Lines: []string{prefixes(x.Prefixes)}}
	if x.Site != "" {
		b.Lines = append(b.Lines, "of "+x.Site)
	}
	if more := len(hosts) - 4; more > 0 {
		hosts = append(hosts[:4:4], fmt.Sprintf("and %d more", more))
	}
	if len(hosts) > 0 {
		b.Lines = append(b.Lines, strings.Join(hosts, ", "))
	}
	return b
}

// ways links what is drawn, and says whose devices send packets over each link: what they route into the tunnel, not what rules permit.
func ways(p *plan.Plan, n *plan.Names, g *plan.Gateway, passages []plan.Passage, networks []plan.Network, tunnels []Box) []Way {
	out := []Way{}
	sent := make([]netset.Addrs, len(passages))
	for i, x := range passages {
		sent[i] = n.Destinations(x.Routes.Split)
	}
	going := func(goes func(i int) bool) []string {
		who := []string{}
		for i, x := range passages {
			if goes(i) {
				who = append(who, x.Name)
			}
		}
		return who
	}
	link := func(from, to string, who []string) { out = append(out, Way{from, to, who}) }
	gate := "gateways/" + g.Name
	for _, x := range passages {
		for _, t := range x.Tunnels {
			if slices.ContainsFunc(tunnels, func(b Box) bool { return b.Title == t }) {
				link("passages/"+x.Name, "tunnels/"+t, []string{x.Name})
			}
		}
	}
	for _, t := range tunnels {
		link(t.Path, gate, going(func(i int) bool { return slices.Contains(passages[i].Tunnels, t.Title) }))
	}
	attached, via := map[string]bool{}, map[string]bool{}
	for _, at := range g.Inside {
		attached[at.Network] = true
	}
	for _, r := range g.Routes {
		via[r.Via.String()] = true
	}
	to := func(x *plan.Network) []string {
		space, _ := n.Destination(x.Name)
		return going(func(i int) bool { return passages[i].Routes.Full || sent[i].Overlaps(space) })
	}
	for _, r := range p.Routers[:min(Drawn, len(p.Routers))] {
		var beyond []string
		for i := range networks {
			if x := &networks[i]; x.Router == r.Name && !attached[x.Name] {
				who := to(x)
				link("routers/"+r.Name, "networks/"+x.Name, who)
				beyond = append(beyond, who...)
			}
		}
		if slices.ContainsFunc(joined(r.Addresses), func(a string) bool { return via[a] }) {
			link(gate, "routers/"+r.Name, going(func(i int) bool { return slices.Contains(beyond, passages[i].Name) }))
		}
	}
	for i := range networks {
		if attached[networks[i].Name] {
			link(gate, "networks/"+networks[i].Name, to(&networks[i]))
		}
	}
	if g.Internet {
		link(gate, plan.Internet, going(func(i int) bool { return passages[i].Routes.Full }))
	}
	return out
}
