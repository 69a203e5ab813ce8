package reach

import (
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// States of a cell of the reach board.
const (
	CellReach   = "reaches"      // expected and computed
	CellRefused = "kept out"     // expected not to, and computed not to
	CellMissing = "cannot reach" // expected, and not or not all computed
	CellBreach  = "should not"   // expected not to, and computed that it does
	CellUnasked = "unasked"      // computed, and no expectation speaks of it
	CellNothing = "no reach"     // neither
)

// Cell is one class of people and one destination.
type Cell struct {
	State    string `json:"state" enum:"reaches,kept out,cannot reach,should not,unasked,no reach"`
	Expected string `json:"expected" doc:"Services that must be reached, or 'not'; empty: no expectation speaks of it."`
	Computed string `json:"computed" doc:"Services that are reached, with their answers; empty: none."`
	Service  string `json:"service" doc:"A service that shows the state, for a journey."`
	Dst      string `json:"dst" doc:"An address that shows the state, for a journey."`
}

// Row is one class of people.
type Row struct {
	Class   string   `json:"class"`
	Users   []string `json:"users" nullable:"false"`
	Unseen  bool     `json:"unseen,omitempty" doc:"Nobody of it was seen yet: a source of the plan may have such people."`
	Passage string   `json:"passage" doc:"Empty: nobody of them is admitted."`
	Cells   []Cell   `json:"cells" nullable:"false" doc:"One for each destination."`
}

// Board is people by destination.
type Board struct {
	Destinations []Destination `json:"destinations" nullable:"false"`
	Rows         []Row         `json:"rows" nullable:"false"`
	Inward       []InwardRow   `json:"inward" nullable:"false" doc:"What is opened from inside towards people's devices, of classes of whom there is something to say."`
}

// InwardRow is what is opened from inside towards the devices of one class of people.
type InwardRow struct {
	Class    string   `json:"class"`
	Users    []string `json:"users" nullable:"false"`
	State    string   `json:"state" enum:"reaches,kept out,cannot reach,should not,unasked"`
	Expected []Line   `json:"expected" nullable:"false" doc:"What must be opened."`
	Computed []Line   `json:"computed" nullable:"false" doc:"What can be opened, as the gateway enforces it."`
	Wrong    []Line   `json:"wrong" nullable:"false" doc:"What is missing, or can be opened and should not be."`
}

// Destination is a column of the board.
type Destination struct {
	Name    string       `json:"name"`
	Network string       `json:"network" doc:"The inside network, or internet."`
	Addrs   netset.Addrs `json:"-"`
}

// MakeBoard sets computed reach against expectations for every class of people and every destination: the plan's hosts, its
// networks apart from those hosts, and the internet.
func MakeBoard(m *site.Model, people []Person) Board { return Compute(m, people).Board() }

// Board is the same of what is computed already.
func (k *Known) Board() Board {
	m := k.Model
	b := Board{Destinations: destinations(m), Rows: []Row{}, Inward: []InwardRow{}}
	for i, c := range k.Classes {
		r := k.Reaches[i]
		row := Row{Class: c.Name(), Users: c.Users, Unseen: len(c.Users) == 0, Cells: make([]Cell, len(b.Destinations))}
		if c.Passage != nil {
			row.Passage = c.Passage.Name
		}
		full, enforced := Always(r.Full), Everywhere(r.Enforced)
		want, ban := demands(m, c, false)
		touched := enforced.Destinations().Union(want.Destinations()).Union(ban.Destinations())
		for i, d := range b.Destinations {
			if touched.Overlaps(d.Addrs) {
				row.Cells[i] = cell(d, full, enforced, want, ban)
			} else { // most of a large board; what is not enforced reach is no reach at all
				row.Cells[i] = d.nothing()
			}
		}
		b.Rows = append(b.Rows, row)
		if in, told := inwardRow(m, c, r); told {
			b.Inward = append(b.Inward, in)
		}
	}
	return b
}

// inwardRow sets what can be opened towards people of a class against what is expected; told is false where there is nothing to say.
func inwardRow(m *site.Model, c Class, r Reach) (row InwardRow, told bool) {
	j := judge{m, c.Class, r, true}
	full, enforced := Always(r.InFull), Everywhere(r.InEnforced)
	want, ban := demands(m, c, true)
	if len(want)+len(ban)+len(enforced) == 0 {
		return row, false
	}
	row = InwardRow{
		Class: c.Name(), Users: c.Users, State: CellUnasked, Expected: j.lines(want), Computed: j.lines(enforced),
		Wrong: []Line{},
	}
	breach, missing := enforced.Intersect(ban), want.Subtract(full)
	switch {
	case len(breach) > 0:
		row.State, row.Wrong = CellBreach, j.lines(breach)
	case len(missing) > 0:
		row.State, row.Wrong = CellMissing, j.lines(missing)
	case len(want) > 0:
		row.State = CellReach
	case len(enforced) == 0:
		row.State = CellRefused
	}
	return row, true
}

func destinations(m *site.Model) []Destination {
	var out []Destination
	var hosts netset.Addrs
	for _, h := range m.Plan.Hosts {
		d := Destination{Name: h.Name, Addrs: h.Space()}
		if len(d.Addrs) == 0 {
			continue
		}
		if n := m.Names.NetworkOf(d.Addrs[0].From); n != nil {
			d.Network = n.Name
		} else {
			d.Network = plan.Internet
		}
		hosts = hosts.Union(d.Addrs)
		out = append(out, d)
	}
	for _, n := range m.Plan.Networks {
		out = append(out, Destination{
			"rest of " + n.Name, n.Name,
			netset.OfPrefixes(n.Prefixes...).Subtract(hosts).Subtract(m.NotMeant()),
		})
	}
	order := map[string]int{}
	for i, n := range m.Plan.Networks {
		order[n.Name] = i
	}
	order[plan.Internet] = len(order)
	slices.SortStableFunc(out, func(a, b Destination) int { return order[a.Network] - order[b.Network] })
	return append(out, Destination{plan.Internet, plan.Internet, m.Names.InternetAddrs()})
}

// demands joins what expectations ask for and what they forbid.
func demands(m *site.Model, c Class, inward bool) (want, ban netset.Traffic) {
	nothingElse := false
	for i := range m.Plan.Expectations {
		e := &m.Plan.Expectations[i]
		if !Concerns(e, c) || e.Inward() != inward && e.Must != plan.NothingElse {
			continue
		}
		switch e.Must {
		case plan.Reach:
			want = want.Union(Asked(m, c.Class, e))
		case plan.NotReach:
			ban = ban.Union(netset.Of(m.Names.Destinations(e.Peers()), m.Names.ServiceSet(e.Services)))
		case plan.NothingElse:
			nothingElse = true
		}
	}
	if nothingElse {
		ban = ban.Union(netset.Of(netset.Everywhere, netset.AnyService).Subtract(want))
	}
	return want, ban
}

// nothing is the cell of a destination that neither reach nor expectation has to do with.
func (d Destination) nothing() Cell {
	c := Cell{State: CellNothing}
	if len(d.Addrs) > 0 {
		c.Dst, c.Service = d.Addrs[0].From.String(), "tcp/80"
	}
	return c
}

func cell(d Destination, full, enforced, want, ban netset.Traffic) Cell {
	here := func(t netset.Traffic) netset.Traffic { return t.To(d.Addrs) }
	f, e, w, b := here(full), here(enforced), here(want), here(ban)
	c := Cell{Computed: services(f).String(), State: CellNothing}
	show := func(t netset.Traffic) {
		if len(t) > 0 {
			p, _ := t[0].Svc.Example()
			if web := netset.PortPoint(netset.TCP, 80); t[0].Svc.Contains(web) {
				p = web
			}
			c.Dst, c.Service = t[0].Dst.From.String(), p.String()
		}
	}
	if len(w) > 0 {
		c.Expected = services(w).String()
	} else if len(b) > 0 {
		c.Expected = "not"
	}
	breach, missing := e.Intersect(b), w.Subtract(f)
	switch {
	case len(breach) > 0:
		c.State = CellBreach
		c.Computed = services(e).String()
		show(breach)
	case len(missing) > 0:
		c.State = CellMissing
		show(missing)
	case len(w) > 0:
		c.State = CellReach
		show(w)
	case len(b) > 0:
		c.State = CellRefused
		show(b.Intersect(netset.Of(netset.Everywhere, netset.Protocol(netset.TCP))))
	case len(e) > 0:
		c.State = CellUnasked
		c.Computed = services(e).String()
		show(e)
	}
	if c.Dst == "" && len(d.Addrs) > 0 {
		n := d.nothing()
		c.Dst, c.Service = n.Dst, n.Service
	}
	return c
}

// services joins the services of all destinations, ping of both families as one word.
func services(t netset.Traffic) Words {
	var s netset.Services
	for _, slab := range t {
		s = s.Union(slab.Svc)
	}
	return Words{s}
}

// Words writes services for people: ping where echo of either family is among them, any where all that can open a flow is, and what is
// missing of that where it is shorter to say.
type Words struct{ Set netset.Services }

func (w Words) String() string {
	for _, all := range []netset.Services{netset.Opening4, netset.Opening6, netset.Opening4.Union(netset.Opening6)} {
		if w.Set.Equal(all) {
			return plan.Any
		}
	}
	words := w.plain()
	if strings.Count(words, ", ") < manyWords {
		return words
	}
	for _, all := range []netset.Services{netset.AnyService, netset.Opening4, netset.Opening6, netset.Opening4.Union(netset.Opening6)} {
		if len(w.Set.Subtract(all)) == 0 {
			if lacks := "everything but " + (Words{all.Subtract(w.Set)}).plain(); strings.Count(lacks, ", ") < strings.Count(words, ", ") {
				words = lacks
			}
		}
	}
	return words
}

const manyWords = 3 // more services than people care to read, where it can be said shorter

func (w Words) plain() string {
	ping, _ := netset.ParseServices("ping")
	rest := w.Set.Subtract(ping)
	switch {
	case len(rest) == len(w.Set) && rest.Equal(w.Set):
		return w.Set.String()
	case len(rest) == 0:
		return "ping"
	}
	return "ping, " + rest.String()
}
