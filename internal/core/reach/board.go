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
	Computed string `json:"computed" doc:"Services that are reached at every hour and from every address of the pool, with their answers; empty: none."`
	Passes   string `json:"passes,omitempty" doc:"Services that the gateway lets through at some hour or from some address, where those are others: not all of it arrives or is answered, or not always."`
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
	Computed []Line   `json:"computed" nullable:"false" doc:"What can be opened at every hour and to every address of the pool, with its answers."`
	Passes   []Line   `json:"passes,omitempty" nullable:"false" doc:"What the gateway lets through at some hour or to some address, where that is something else."`
	Wrong    []Line   `json:"wrong" nullable:"false" doc:"What is missing, or can be opened and should not be."`
}

// Destination is a column of the board.
type Destination struct {
	Name    string       `json:"name"`
	Network string       `json:"network" doc:"The inside network, or internet."`
	Addrs   netset.Addrs `json:"-"`
}

// MakeBoard sets computed reach against expectations for every class of people and every destination.
func MakeBoard(m *site.Model, people []Person) Board { return Compute(m, people).Board() }

// Board is the whole board of what is computed already.
func (k *Known) Board() Board {
	b := Board{Destinations: k.Columns().Destinations, Rows: []Row{}, Inward: []InwardRow{}}
	for i := range k.Classes {
		b.Rows = append(b.Rows, k.Row(i, b.Destinations))
		if told, _ := k.Inward(i); told {
			b.Inward = append(b.Inward, k.InwardRow(i))
		}
	}
	return b
}

// Row is a class of people against some destinations.
func (k *Known) Row(class int, to []Destination) Row {
	return rowOf(k.Model, k.Classes[class], k.Reaches[class], expectations(k.Model.Plan, k.among[class]), to)
}

// Row is the same while the rest is still being computed; the class is computed if it was not yet.
func (w *Work) Row(class int, to []Destination) Row {
	w.Do(class)
	return rowOf(w.Model, w.Classes[class], w.made[class].reach, expectations(w.Model.Plan, w.among[class]), to)
}

// Columns are the board's destinations.
func (k *Known) Columns() *Columns { return k.table() }

// Wrong are the cells of each class that are not as they should be, by their columns; most classes have none.
func (k *Known) Wrong() [][]int { return k.wrong() }

// Inward tells whether there is something to say of what is opened from inside towards people of a class, and whether that is amiss.
func (k *Known) Inward(class int) (told, amiss bool) {
	return k.made[class].inward, k.made[class].amiss
}

// InwardRow sets what can be opened towards people of a class against what is expected.
func (k *Known) InwardRow(class int) InwardRow {
	return inwardRow(k.Model, k.Classes[class], k.Reaches[class], expectations(k.Model.Plan, k.among[class]))
}

func rowOf(m *site.Model, c Class, r Reach, among []*plan.Expectation, to []Destination) Row {
	row := Row{Class: c.Name(), Users: c.Users, Unseen: len(c.Users) == 0, Cells: make([]Cell, len(to))}
	if c.Passage != nil {
		row.Passage = c.Passage.Name
	}
	full, enforced := Always(r.Full), Everywhere(r.Enforced)
	want, ban := demands(m, c, among, false)
	touched := enforced.Destinations().Union(want.Destinations()).Union(ban.Destinations())
	for i, d := range to {
		if touched.Overlaps(d.Addrs) {
			row.Cells[i] = cell(d, full, enforced, want, ban)
		} else { // most of a large board; what is not enforced reach is no reach at all
			row.Cells[i] = d.nothing()
		}
	}
	return row
}

// wrong are the destinations of cells that are not as they should be.
func wrong(m *site.Model, c Class, r Reach, among []*plan.Expectation) netset.Addrs {
	want, ban := demands(m, c, among, false)
	if len(want)+len(ban) == 0 {
		return nil
	}
	return Everywhere(r.Enforced).Intersect(ban).Destinations().Union(want.Subtract(Always(r.Full)).Destinations())
}

// towards tells whether there is something to say of what is opened from inside, and whether it is not as it should be.
func towards(m *site.Model, c Class, r Reach, among []*plan.Expectation) (told, amiss bool) {
	enforced := Everywhere(r.InEnforced)
	want, ban := demands(m, c, among, true)
	told = len(want)+len(ban)+len(enforced) > 0
	return told, told && (len(enforced.Intersect(ban)) > 0 || len(want.Subtract(Always(r.InFull))) > 0)
}

func inwardRow(m *site.Model, c Class, r Reach, among []*plan.Expectation) InwardRow {
	j := judge{m, c.Class, r, true, among}
	full, enforced := Always(r.InFull), Everywhere(r.InEnforced)
	want, ban := demands(m, c, among, true)
	row := InwardRow{
		Class: c.Name(), Users: c.Users, State: CellUnasked, Expected: j.lines(want), Computed: j.lines(full),
		Wrong: []Line{},
	}
	if !full.Equal(enforced) {
		row.Passes = j.lines(enforced)
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
	return row
}

// Columns are the board's destinations, and find them by address.
type Columns struct {
	Destinations []Destination
	*netset.Finder
}

func columnsOf(m *site.Model) *Columns {
	c := &Columns{Destinations: destinations(m)}
	sets := make([]netset.Addrs, len(c.Destinations))
	for i, d := range c.Destinations {
		sets[i] = d.Addrs
	}
	c.Finder = netset.NewFinder(sets)
	return c
}

// destinations are the plan's hosts, its networks apart from those hosts, and the internet.
func destinations(m *site.Model) []Destination {
	var out []Destination
	var taken []netset.Span
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
		taken = append(taken, d.Addrs...)
		out = append(out, d)
	}
	hosts, dead := netset.OfSpans(taken...), m.NotMeant()
	for _, n := range m.Plan.Networks {
		out = append(out, Destination{
			"rest of " + n.Name, n.Name,
			netset.OfPrefixes(n.Prefixes...).Subtract(hosts).Subtract(dead),
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
func demands(m *site.Model, c Class, among []*plan.Expectation, inward bool) (want, ban netset.Traffic) {
	nothingElse := false
	for _, e := range among {
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
	if !f.Equal(e) {
		c.Passes = services(e).String()
	}
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
		if show(e); len(f) > 0 { // what arrives, rather than what does not
			show(f)
		}
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
