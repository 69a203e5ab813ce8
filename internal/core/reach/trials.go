package reach

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Trial is one thing for a probe to try for a person, with what is expected and what was computed.
type Trial struct {
	Expectation string     `json:"expectation"`
	Want        bool       `json:"want" doc:"Whether it must be reached."`
	Computed    bool       `json:"computed" doc:"Whether computation says that the trial sees an answer: full reach, by name if it is tried by name."`
	Dst         netip.Addr `json:"dst"`
	Place       string     `json:"place" doc:"What the plan calls it."`
	Network     string     `json:"network,omitempty" doc:"The inside network it is on; empty: the internet."`
	Name        string     `json:"name,omitempty" doc:"DNS name to try it by."`
	Service     string     `json:"service"`
	Edge        bool       `json:"edge,omitempty" doc:"A boundary packet: nothing is expected of it; computed says whether the gateway lets it through."`
	Search      bool       `json:"search,omitempty" doc:"The plan names nobody there: it is looked whether somebody answers. Silence says nothing."`
	AnyAnswer   bool       `json:"any-answer,omitempty" doc:"A network is meant, not this host: that the host answers is enough, for not every one offers the service."`
}

// most bounds how many services are tried where an expectation names very many.
const most = 6

// Trials turns the expectations that concern a user into things to try: at every named host that a target holds, with the edge
// ports of every service. In a network or prefix where the plan names no host somebody who answers is looked for.
func Trials(m *site.Model, c Class, r Reach) []Trial {
	t := trials{m: m, c: c, full: Always(r.Full), seen: map[Trial]bool{}}
	t.named = c.Passage != nil && judge{m: m, c: c.Class, r: r}.names(t.full)
	asked := netset.Traffic{}
	for i := range m.Plan.Expectations {
		e := &m.Plan.Expectations[i]
		if !Concerns(e, c) || e.Inward() { // a device cannot try from inside
			continue
		}
		switch e.Must {
		case plan.Reach:
			set := Asked(m, c.Class, e)
			asked = asked.Union(set)
			t.add(e, set, true, m.Names.ServiceSet(e.Services))
		case plan.NotReach:
			t.add(e, netset.Of(m.Names.Destinations(e.To), m.Names.ServiceSet(e.Services)).Intersect(site.Opening()), false,
				m.Names.ServiceSet(e.Services))
		}
	}
	for i := range m.Plan.Expectations {
		e := &m.Plan.Expectations[i]
		if e.Must == plan.NothingElse && Concerns(e, c) {
			t.add(e, netset.Of(m.Names.InsideAddrs(), netset.AnyService).Subtract(asked).Intersect(site.Opening()), false,
				netset.AnyService)
		}
	}
	return t.out
}

type trials struct {
	m     *site.Model
	c     Class
	full  netset.Traffic
	named bool // a name server can be asked
	seen  map[Trial]bool
	out   []Trial
}

func (t *trials) add(e *plan.Expectation, set netset.Traffic, want bool, services netset.Services) {
	points := t.points(services)
	try := func(a netip.Addr, place, network, name string) {
		if t.c.Passage == nil || !t.c.Passage.Pool.HasFamily(a.Is4()) {
			return
		}
		for _, p := range points {
			if !set.Contains(a, p) {
				continue
			}
			trial := Trial{
				Expectation: e.Name, Want: want, Computed: t.full.Contains(a, p), Dst: a, Place: place, Network: network, Service: p.String(),
				AnyAnswer: want && !slices.Contains(e.To, place),
			}
			if e.ByName {
				trial.Name = name
				trial.Computed = trial.Computed && (name == "" || t.named)
			}
			key := trial
			key.Expectation = ""
			if !t.seen[key] {
				t.seen[key] = true
				t.out = append(t.out, trial)
			}
		}
	}
	for i := range t.m.Plan.Hosts {
		h := &t.m.Plan.Hosts[i]
		for _, a := range h.Some() {
			network := ""
			if n := t.m.Names.NetworkOf(a); n != nil {
				network = n.Name
			}
			try(a, h.Name, network, h.DNS)
		}
	}
	for _, word := range e.To { // addresses that are written out
		if a, err := netip.ParseAddr(word); err == nil && t.m.Names.HostAt(a) == nil {
			network := ""
			if n := t.m.Names.NetworkOf(a); n != nil {
				network = n.Name
			}
			try(a, word, network, "")
		}
	}
	for _, word := range e.To {
		t.search(e, word, set, want, points)
	}
}

const (
	mostSearched = 6 // addresses that are asked where the plan names nobody
	mostAsked    = 2 // services of each
)

// search looks for somebody who answers in a network or prefix where the plan names nobody: routers there, and its first addresses.
func (t *trials) search(e *plan.Expectation, word string, set netset.Traffic, want bool, points []netset.Point) {
	network := t.m.Names.Networks[word]
	space, _ := t.m.Names.Destination(word)
	if _, err := netip.ParsePrefix(word); t.c.Passage == nil || network == nil && err != nil || space.Count(2) < 2 {
		return
	}
	for i := range t.m.Plan.Hosts {
		if t.m.Plan.Hosts[i].Space().Overlaps(space) {
			return
		}
	}
	space = space.Subtract(t.m.NotMeant())
	var candidates []netip.Addr
	for i := range t.m.Plan.Routers {
		for _, a := range t.m.Plan.Routers[i].Addresses {
			if space.Contains(a) {
				candidates = append(candidates, a)
			}
		}
	}
	for _, s := range space {
		for a := s.From; len(candidates) < mostSearched && a.Compare(s.To) <= 0; a = a.Next() {
			if !slices.Contains(candidates, a) {
				candidates = append(candidates, a)
			}
		}
	}
	for _, a := range candidates[:min(len(candidates), mostSearched)] {
		asked := 0
		name := ""
		if n := t.m.Names.NetworkOf(a); n != nil {
			name = n.Name
		}
		for _, p := range points {
			if asked == mostAsked || !t.c.Passage.Pool.HasFamily(a.Is4()) || !set.Contains(a, p) {
				continue
			}
			asked++
			trial := Trial{
				Expectation: e.Name, Want: want, Computed: t.full.Contains(a, p), Dst: a, Place: a.String(), Network: name, Service: p.String(),
				AnyAnswer: true, Search: true,
			}
			key := trial
			key.Expectation = ""
			if !t.seen[key] {
				t.seen[key] = true
				t.out = append(t.out, trial)
			}
		}
	}
}

// points picks what to try of a set of services: the edges of each range; of everything, ping and what the plan's own services name.
func (t *trials) points(set netset.Services) []netset.Point {
	if set.Equal(netset.AnyService) {
		set, _ = netset.ParseServices("ping")
		for _, s := range t.m.Plan.Services {
			for _, port := range s.Ports {
				one, _ := netset.ParseServices(port)
				if p, ok := one.Intersect(netset.Protocol(netset.TCP)).Example(); ok {
					set = set.Union(netset.One(p))
				}
			}
		}
	}
	var out []netset.Point
	for _, r := range set {
		switch p := r.From.Proto(); p {
		case netset.TCP, netset.UDP:
			out = append(out, r.From)
			if r.To != r.From && r.To.Proto() == p && r.To-r.From < 0xfffe {
				out = append(out, r.To)
			}
		case netset.ICMP, netset.ICMPv6:
			for _, echo := range []netset.Point{netset.ICMPPoint(netset.ICMP, 8, 0), netset.ICMPPoint(netset.ICMPv6, 128, 0)} {
				if (netset.Services{r}).Contains(echo) {
					out = append(out, echo)
				}
			}
		}
	}
	slices.Sort(out)
	return out[:min(len(out), most)]
}
