package reach

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Outcomes of an expectation for one class.
const (
	Holds  = "holds"
	Fails  = "fails"
	InPart = "in part"
)

// Line is one readable piece of traffic: from people to somewhere, or from there to people's devices.
type Line struct {
	To       string `json:"to,omitempty" doc:"Destinations."`
	From     string `json:"from,omitempty" doc:"In place of to: places that can open it towards people's devices."`
	Services string `json:"services"`
}

// String says it in words.
func (l Line) String() string {
	if l.From != "" {
		return l.Services + " from " + l.From + " towards their devices"
	}
	return l.Services + " at " + l.To
}

// Result is one expectation held against the reach of one class.
type Result struct {
	Expectation string   `json:"expectation"`
	Must        string   `json:"must"`
	Class       string   `json:"class" doc:"The class's groups."`
	Users       []string `json:"users" nullable:"false"`
	Outcome     string   `json:"outcome" enum:"holds,fails,in part"`
	Words       string   `json:"words" doc:"The outcome in one sentence."`
	Wrong       []Line   `json:"wrong,omitempty" nullable:"false" doc:"What is missing, or reachable and should not be."`
	Example     *Example `json:"example,omitempty" doc:"One packet that shows it."`
}

// Example is one packet with its journey, the station at fault and the change that mends it.
type Example struct {
	Src     string       `json:"src"`
	Dst     string       `json:"dst"`
	Service string       `json:"service"`
	Station string       `json:"station"`
	Setting string       `json:"setting"`
	Words   string       `json:"words"`
	Fix     string       `json:"fix"`
	Journey site.Journey `json:"journey"`
}

// Proof is every expectation held against computed reach.
type Proof struct {
	Results []Result `json:"results" nullable:"false"`
	Failed  int      `json:"failed"`
}

// Prove holds the plan's expectations against the computed reach of every class of the people.
func Prove(m *site.Model, people []Person) Proof { return Compute(m, people).Proof }

// prove holds one expectation against the reach of one class; nil if it is not about any of them. among are all expectations that may be
// about the class.
func prove(m *site.Model, class Class, of Reach, e *plan.Expectation, among []*plan.Expectation) *Result {
	users, about := concerned(e, class)
	if !about {
		return nil
	}
	r := &Result{Expectation: e.Name, Must: e.Must, Class: class.Name(), Users: users, Outcome: Holds}
	judge{m, class.Class, of, e.Inward(), among}.expect(e, r)
	return r
}

// Concerns tells whether an expectation is about somebody of a class.
func Concerns(e *plan.Expectation, c Class) bool {
	_, about := concerned(e, c)
	return about
}

// about is which classes have a group, and which a user, in their order.
type about struct {
	all           []int
	group, person map[string][]int
}

func aboutOf(classes []Class) about {
	a := about{group: map[string][]int{}, person: map[string][]int{}}
	for i, c := range classes {
		a.all = append(a.all, i)
		for _, g := range c.Groups {
			a.group[g] = append(a.group[g], i)
		}
		for _, u := range c.Users {
			a.person[u] = append(a.person[u], i)
		}
	}
	return a
}

// of are the classes that an expectation may be about.
func (a about) of(e *plan.Expectation) []int {
	if e.Everyone {
		return a.all
	}
	var out []int
	for _, g := range e.Groups {
		out = append(out, a.group[g]...)
	}
	for _, u := range e.Users {
		out = append(out, a.person[u]...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// concerned is the users of a class that an expectation is about; about is that it is about the class, of which nobody may have been seen.
func concerned(e *plan.Expectation, c Class) (users []string, about bool) {
	if e.Everyone && c.Passage != nil || slices.ContainsFunc(e.Groups, func(g string) bool { return slices.Contains(c.Groups, g) }) {
		return c.Users, true
	}
	for _, u := range e.Users {
		if slices.Contains(c.Users, u) {
			users = append(users, u)
		}
	}
	return users, len(users) > 0
}

// judge looks at one class and one direction.
type judge struct {
	m      *site.Model
	c      *site.Class
	r      Reach
	inward bool                // from inside towards people's devices
	among  []*plan.Expectation // that may be about the class
}

// full and enforced are both sides of reach in the judge's direction.
func (j judge) full() []Part {
	if j.inward {
		return j.r.InFull
	}
	return j.r.Full
}

func (j judge) enforced() []Part {
	if j.inward {
		return j.r.InEnforced
	}
	return j.r.Enforced
}

func (j judge) expect(e *plan.Expectation, r *Result) {
	switch e.Must {
	case plan.Reach:
		j.mustReach(e, r)
	case plan.NotReach:
		asked := netset.Of(j.m.Names.Destinations(e.Peers()), j.m.Names.ServiceSet(e.Services))
		if j.inward {
			j.surplus(asked, r, "their devices cannot be reached from there", "their devices can be reached from where they should not be")
		} else {
			j.surplus(asked, r, "cannot reach it", "can reach what should be out of bounds")
		}
	case plan.NothingElse:
		class := Class{j.c, r.Users}
		all := netset.Of(netset.Everywhere, netset.AnyService)
		j.surplus(all.Subtract(askedFor(j.m, j.among, class, false)), r, "can reach nothing that no expectation asks for",
			"can reach what no expectation asks for")
		if r.Outcome == Holds {
			j.inward = true
			j.surplus(all.Subtract(askedFor(j.m, j.among, class, true)), r, r.Words,
				"their devices can be reached from where no expectation asks for")
		}
	}
}

// Asked is the traffic that a must-reach expectation demands for people of the class: in the families that their pool
// has, without what no gateway forwards, and without the gateway's and people's own addresses where a network or prefix is meant.
func Asked(m *site.Model, c *site.Class, e *plan.Expectation) netset.Traffic {
	var dst netset.Addrs
	for _, word := range e.Peers() {
		a, _ := m.Names.Destination(word)
		if m.Names.Hosts[word] == nil && word != plan.Itself && a.Count(2) > 1 {
			a = a.Subtract(m.NotMeant())
		}
		dst = dst.Union(a)
	}
	if c.Passage != nil {
		for _, family := range []netset.Addrs{netset.All4, netset.All6} {
			if !c.Passage.Pool.Overlaps(family) {
				if rest := dst.Subtract(family); len(rest) > 0 {
					dst = rest
				}
			}
		}
	}
	return netset.Of(dst, m.Names.ServiceSet(e.Services)).Intersect(site.Opening())
}

func (j judge) mustReach(e *plan.Expectation, r *Result) {
	asked := Asked(j.m, j.c, e)
	reached := Always(j.full())
	reaches, cannot := "reaches it", "cannot reach it"
	if j.inward {
		reaches, cannot = "their devices are reached from there", "their devices cannot be reached from there"
	}
	missing := asked.Subtract(reached)
	switch {
	case len(asked) == 0:
		r.Outcome, r.Words = Fails, "it names nothing that could be reached"
	case len(missing) > 0:
		r.Outcome, r.Words = Fails, cannot
		if !missing.Equal(asked) {
			r.Outcome, r.Words = InPart, reaches+" only in part"
		}
		r.Wrong = j.lines(missing)
		r.Example = j.example(missing, true)
		r.Words += ": " + r.Example.Words
	case e.ByName && !j.inward && !j.names(reached):
		r.Outcome = Fails
		r.Words = "reaches it by address, but no name server of the passage can be asked through the tunnel"
		if j.c.Passage != nil && len(j.c.Passage.DNS.Servers) > 0 {
			ask := netset.Of(netset.OfAddrs(j.c.Passage.DNS.Servers...), netset.Ports(netset.UDP, 53, 53))
			r.Wrong = j.lines(ask)
			r.Example = j.example(ask, true)
		}
	default:
		r.Words = reaches
	}
}

// names tells whether some name server of the passage can be asked.
func (j judge) names(reached netset.Traffic) bool {
	return slices.ContainsFunc(j.c.Passage.DNS.Servers, func(s netip.Addr) bool {
		return reached.Contains(s, netset.PortPoint(netset.UDP, 53))
	})
}

func (j judge) surplus(forbidden netset.Traffic, r *Result, good, bad string) {
	breach := Everywhere(j.enforced()).Intersect(forbidden)
	r.Words = good
	if len(breach) == 0 {
		return
	}
	r.Outcome, r.Wrong, r.Example = Fails, j.lines(breach), j.example(breach, false)
	r.Words = fmt.Sprintf("%s: %s", bad, r.Example.Words)
}

// lines writes traffic in few lines: destinations with the same services, in words, share one.
func (j judge) lines(t netset.Traffic) []Line {
	var order []string
	byService := map[string]netset.Addrs{}
	for _, l := range t.Lines() {
		words := Words{l.Svc}.String()
		if _, seen := byService[words]; !seen {
			order = append(order, words)
		}
		byService[words] = byService[words].Union(l.Dst)
	}
	out := make([]Line, 0, len(order))
	for _, words := range order {
		line := Line{To: j.placeNames(byService[words]), Services: words}
		if j.inward {
			line.From, line.To = line.To, ""
		}
		out = append(out, line)
	}
	return out
}

const mostPlaces = 8 // named in one line

// placeNames writes addresses with the names that the plan has for them, the largest first.
func (j judge) placeNames(a netset.Addrs) string {
	var words []string
	take := func(set netset.Addrs, name string) {
		if len(set) > 0 && a.Covers(set) {
			words = append(words, name)
			a = a.Subtract(set)
		}
	}
	// most names a set of which little is missing by that.
	most := func(set netset.Addrs, name string) {
		have := a.Intersect(set)
		if lacks := set.Subtract(have); len(have) > 1 && len(lacks) <= fewGaps && lacks.Count(2*fewGaps) < 2*fewGaps {
			var gaps []string
			for _, s := range lacks {
				gaps = append(gaps, j.spanName(s))
			}
			words = append(words, name+" but for "+strings.Join(gaps, ", "))
			a = a.Subtract(set)
		}
	}
	inet := j.m.Names.InternetAddrs()
	take(inet, plan.Internet)
	for _, family := range []struct {
		set  netset.Addrs
		name string
	}{{netset.All4, "internet (IPv4)"}, {netset.All6, "internet (IPv6)"}} {
		take(inet.Intersect(family.set), family.name)
		most(inet.Intersect(family.set), family.name)
	}
	dead := j.m.NotMeant()
	for _, n := range j.m.Names.NetworksTouching(a) {
		if !slices.ContainsFunc(n.Prefixes, func(p netip.Prefix) bool { return a.Touches(netset.PrefixSpan(p)) }) {
			continue
		}
		take(netset.OfPrefixes(n.Prefixes...).Subtract(dead), n.Name)
		for _, p := range n.Prefixes {
			most(netset.OfPrefixes(p).Subtract(dead), n.Name+" ("+p.String()+")")
		}
	}
	for _, h := range j.m.Names.HostsTouching(a) {
		if len(a) == 0 || !h.First().IsValid() || !a.Contains(h.First()) {
			continue
		}
		take(h.Space(), h.Name)
	}
	for _, s := range a {
		words = append(words, j.spanName(s))
	}
	if len(words) > mostPlaces {
		words = append(words[:mostPlaces], fmt.Sprintf("and %d more ranges", len(words)-mostPlaces))
	}
	return strings.Join(words, ", ")
}

// fewGaps is how many addresses may be missing of a network that is named all the same.
const fewGaps = 8

// spanName names a stretch of addresses by the host or the gateway where it is one of theirs.
func (j judge) spanName(s netset.Span) string {
	word := s.String()
	if s.From != s.To {
		return word
	}
	if h := j.m.Names.HostAt(s.From); h != nil {
		return h.Name + " (" + word + ")"
	}
	if j.m.OwnAddresses().Contains(s.From) {
		return "the gateway's " + word
	}
	return word
}

// example picks the packet of the set that says most to a person, and the station and setting that decide about it.
func (j judge) example(t netset.Traffic, missing bool) *Example {
	p := pick(j.m, t)
	p.Src = j.sourceFor(p, missing)
	when := site.Ever
	if missing {
		when = site.When{}
	}
	var journey site.Journey
	if leased := netset.OfAddrs(p.Src); j.inward {
		p.Src, p.Dst = p.Dst, p.Src
		journey = j.m.TravelInward(j.c, p, leased, when)
	} else {
		journey = j.m.Travel(j.c, p, leased, when)
	}
	x := &Example{Src: p.Src.String(), Dst: p.Dst.String(), Service: p.Service.String(), Journey: journey}
	if lost := journey.LostAt(); lost != nil && missing {
		x.Station, x.Setting, x.Words = lost.Station, lost.Setting, lost.Words
	} else {
		for _, s := range journey.Steps { // what lets it through is the rule
			if s.Station == site.Rules {
				x.Station, x.Setting, x.Words = s.Station, s.Setting, s.Words
			}
		}
	}
	x.Fix = Fix(j.m, j.c, p, x.Station, x.Setting, missing, j.inward)
	return x
}

// sourceFor finds a source of the pool from which the packet is lost (or gets through).
func (j judge) sourceFor(p site.Packet, missing bool) netip.Addr {
	parts := j.enforced()
	if missing {
		parts = j.full()
	}
	if len(parts) == 0 { // nothing is let through in this direction: any address shows it
		parts = j.r.Enforced
	}
	var some netip.Addr
	for _, part := range parts {
		from := part.Src[0].From
		if from.Is4() != p.Dst.Is4() {
			continue
		}
		some = from
		if part.Traffic.Contains(p.Dst, p.Service) != missing {
			break
		}
	}
	if !some.IsValid() { // no address of the family, or not admitted at all
		some = netip.IPv6Unspecified()
		if p.Dst.Is4() {
			some = netip.IPv4Unspecified()
		}
	}
	return some
}

// pick prefers a destination that has a name, and a service that is easy to try.
func pick(m *site.Model, t netset.Traffic) site.Packet {
	slab := t[0]
	dst := slab.Dst.From
search:
	for _, s := range t {
		for _, h := range m.Names.HostsTouching(netset.OfSpans(s.Dst)) {
			for _, a := range h.Some() {
				if s.Dst.From.Compare(a) <= 0 && a.Compare(s.Dst.To) <= 0 {
					slab, dst = s, a
					break search
				}
			}
		}
	}
	service, _ := slab.Svc.Example()
	return site.Packet{Dst: dst, Service: service}
}

// ForbiddenBy is the expectation by which people of a class must not reach where a packet goes (or must not be reached from where it
// begins); nil if none says so. Nothing-else forbids what no other expectation asks for.
func ForbiddenBy(m *site.Model, c Class, p site.Packet, inward bool) *plan.Expectation {
	peer := p.Dst
	if inward {
		peer = p.Src
	}
	all := allOf(m.Plan)
	for _, e := range all {
		if !Concerns(e, c) {
			continue
		}
		switch {
		case e.Must == plan.NotReach && e.Inward() == inward &&
			netset.Of(m.Names.Destinations(e.Peers()), m.Names.ServiceSet(e.Services)).Contains(peer, p.Service),
			e.Must == plan.NothingElse && !askedFor(m, all, c, inward).Contains(peer, p.Service):
			return e
		}
	}
	return nil
}
