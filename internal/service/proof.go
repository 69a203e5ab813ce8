package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Proof is the expectations held against computed reach.
type Proof struct {
	reach.Proof
	Revision int `json:"revision" doc:"0: a draft."`
}

// Board is the reach board with what probes saw last.
type Board struct {
	reach.Board
	Revision     int     `json:"revision"`
	Verdict      Verdict `json:"verdict" doc:"On the whole revision: the same that yl validate and the printed report have."`
	TotalRows    int     `json:"total-rows" doc:"Rows that match, shown or not."`
	TotalColumns int     `json:"total-columns" doc:"Columns that match, shown or not."`
	Troubles     int     `json:"troubles" doc:"Cells of the whole board that are not as they should be."`
	Tried        [][]Try `json:"tried" nullable:"false" doc:"For each row and destination, what the newest probe of somebody of the class saw."`
}

// Verdict is what is known of a revision, in one place. Of a draft nothing was tried: it has none.
type Verdict struct {
	OK       bool     `json:"ok"`
	Headline string   `json:"headline" doc:"In a few words."`
	Words    string   `json:"words" doc:"In one sentence."`
	Troubles []string `json:"troubles" nullable:"false" doc:"What does not run, or carries nothing, at the gateway itself."`
	Untried  []string `json:"untried" nullable:"false" doc:"What nobody tried."`
}

// Try is what was tried of one cell.
type Try struct {
	State string    `json:"state" enum:"not tried,as expected,differs"`
	Words string    `json:"words"`
	User  string    `json:"user,omitempty"`
	At    time.Time `json:"at,omitzero"`
}

// JourneyAnswer is one packet's way there and back.
type JourneyAnswer struct {
	site.Journey
	User    string         `json:"user"`
	Class   string         `json:"class"`
	Packet  string         `json:"packet" doc:"The packet in words."`
	Flows   []forward.Flow `json:"flows" nullable:"false" doc:"Live flows of this user with that destination and service, with their counters."`
	Live    string         `json:"live,omitempty" doc:"What the running gateway says of this user just now."`
	Verdict string         `json:"verdict" doc:"What becomes of it, in one sentence."`
	Fix     string         `json:"fix,omitempty"`
	Mend    []plan.Edit    `json:"mend,omitempty" nullable:"false" doc:"The fix as edits of the plan, where it wants no decision."`
}

func (s *Service) proofRoutes() {
	register(s, "GET", "/proof", "prove", "Hold the expectations against computed reach", func(ctx context.Context, in *Drafted) (*body[Proof], error) {
		m, number, persons, err := s.model(ctx, in.Draft)
		if err != nil {
			return nil, err
		}
		return answer(Proof{s.compute(m, persons).Proof, number}), nil
	})
	register(s, "GET", "/board", "board", "The reach board", s.board)
	register(s, "GET", "/journey", "journey", "One packet's way there and back", s.journey)
	register(s, "GET", "/probes/order", "probe-order", "What a probe is to try for a user", s.order)
	register(s, "GET", "/probes", "list-probes", "The newest probe reports", s.probes)
	register(s, "POST", "/probes", "add-probe", "Hand in a probe report", s.addProbe)
	register(s, "GET", "/vantages", "list-vantages", "Places that a probe can try from", func(context.Context, *struct{}) (*body[[]Vantage], error) {
		return answer(append([]Vantage{}, s.Vantages...)), nil
	})
}

// Drafted is a call that may look at a draft.
type Drafted struct {
	Draft string `query:"draft" doc:"Look at this draft in place of the newest revision."`
}

// model compiles the newest revision, or a draft.
func (s *Service) model(ctx context.Context, draftName string) (*site.Model, int, []reach.Person, error) {
	text, number := "", 0
	if draftName != "" {
		d, err := s.Store.Draft(ctx, draftName)
		if err != nil {
			return nil, 0, nil, known(err, "draft", draftName)
		}
		text = d.Text
	} else {
		r, err := s.revisionOrNewest(ctx, 0)
		if err != nil {
			return nil, 0, nil, err
		}
		text, number = r.Text, r.Number
	}
	doc, err := s.docs.read(text)
	if err != nil {
		return nil, 0, nil, mistaken(err)
	}
	m, err := modelOf(&doc.Plan)
	if err != nil {
		return nil, 0, nil, mistaken(err)
	}
	persons, err := s.People.Persons(ctx)
	return m, number, persons, err
}

// BoardWindow is the part of the board that is wanted.
type BoardWindow struct {
	Drafted
	People  string `query:"people" doc:"Only classes of people, users or passages with this text."`
	To      string `query:"to" doc:"Only destinations or networks with this text."`
	Trouble bool   `query:"trouble" doc:"Only classes of people with a cell that is not as it should be."`
	Row     int    `query:"row" minimum:"0" doc:"The first row, from 0."`
	Rows    int    `query:"rows" minimum:"0" doc:"How many rows at most; 0: all."`
	Column  int    `query:"column" minimum:"0" doc:"The first column, from 0."`
	Columns int    `query:"columns" minimum:"0" doc:"How many columns at most; 0: all."`
}

func (s *Service) board(ctx context.Context, in *BoardWindow) (*body[Board], error) {
	m, number, persons, err := s.model(ctx, in.Draft)
	if err != nil {
		return nil, err
	}
	whole := reach.MakeBoard(m, persons)
	reports, err := s.reports(ctx, number)
	if err != nil {
		return nil, err
	}
	var columns []int
	for i, d := range whole.Destinations {
		if holdsText(in.To, d.Name, d.Network) {
			columns = append(columns, i)
		}
	}
	b := Board{Revision: number, Tried: [][]Try{}}
	if in.Draft == "" {
		if b.Verdict, err = s.verdict(ctx, number, reports); err != nil {
			return nil, err
		}
	}
	b.Rows, b.Destinations = []reach.Row{}, []reach.Destination{}
	b.Inward = []reach.InwardRow{}
	for _, row := range whole.Inward {
		bad := row.State == reach.CellMissing || row.State == reach.CellBreach
		if bad {
			b.Troubles++
		}
		if (bad || !in.Trouble) && holdsText(in.People, append([]string{row.Class}, row.Users...)...) {
			b.Inward = append(b.Inward, row)
		}
	}
	b.TotalColumns = len(columns)
	columns = window(columns, in.Column, in.Columns)
	var rows []int
	tries := make([][]Try, len(whole.Rows))
	for i, row := range whole.Rows {
		tries[i] = triesOf(row, whole.Destinations, reports)
		bad := 0
		for k, cell := range row.Cells {
			if cell.State == reach.CellMissing || cell.State == reach.CellBreach || tries[i] != nil && tries[i][k].State == "differs" {
				bad++
			}
		}
		b.Troubles += bad
		if (bad > 0 || !in.Trouble) && holdsText(in.People, append([]string{row.Class, row.Passage}, row.Users...)...) {
			rows = append(rows, i)
		}
	}
	b.TotalRows = len(rows)
	for _, k := range columns {
		b.Destinations = append(b.Destinations, whole.Destinations[k])
	}
	for _, i := range window(rows, in.Row, in.Rows) {
		row := whole.Rows[i]
		cells, seen := make([]reach.Cell, len(columns)), make([]Try, len(columns))
		for n, k := range columns {
			cells[n], seen[n] = row.Cells[k], Try{State: "not tried", Words: "not tried"}
			if tries[i] != nil {
				seen[n] = tries[i][k]
			}
		}
		row.Cells = cells
		b.Rows, b.Tried = append(b.Rows, row), append(b.Tried, seen)
	}
	return answer(b), nil
}

func holdsText(text string, words ...string) bool {
	text = strings.ToLower(text)
	return text == "" || slices.ContainsFunc(words, func(w string) bool { return strings.Contains(strings.ToLower(w), text) })
}

// window is a part of a list: n items from first on; 0: all.
func window(list []int, first, n int) []int {
	list = list[min(first, len(list)):]
	if n > 0 {
		list = list[:min(n, len(list))]
	}
	return list
}

// triesOf is what the newest report of somebody of the class saw; nil if none of them tried.
func triesOf(row reach.Row, dsts []reach.Destination, reports []probe.Report) []Try {
	for _, r := range ownFirst(reports) {
		if r.Class == row.Class {
			out := make([]Try, len(dsts))
			for i, d := range dsts {
				out[i] = tried(r, d)
			}
			return out
		}
	}
	return nil
}

// ownFirst puts what the service tried itself before what was handed in, which never takes its place.
func ownFirst(reports []probe.Report) []probe.Report {
	out := slices.Clone(reports)
	slices.SortStableFunc(out, func(a, b probe.Report) int {
		return map[bool]int{true: 1}[a.Handed] - map[bool]int{true: 1}[b.Handed]
	})
	return out
}

// reports gives the newest report of each class from each vantage on a revision, newest first.
func (s *Service) reports(ctx context.Context, number int) ([]probe.Report, error) {
	records, err := s.Store.NewestReports(ctx, number)
	var out []probe.Report
	for _, rec := range records {
		var r probe.Report
		if json.Unmarshal([]byte(rec.Report), &r) == nil {
			out = append(out, r)
		}
	}
	return out, err
}

func tried(r probe.Report, d reach.Destination) Try {
	t := Try{State: "not tried", Words: "not tried"}
	n := 0
	for _, res := range r.Results {
		if !d.Addrs.Contains(res.Dst) || d.Name == plan.Internet && res.Network != "" {
			continue
		}
		if x := res; x.Edge && x.OK || x.Untried {
			continue
		}
		n++
		t.User, t.At = r.User, r.At
		if !res.OK {
			t.State, t.Words = "differs", fmt.Sprintf("%s: %s", res.Service, res.Seen.Words)
			if r.Handed {
				t.Words += " (handed in)"
			}
			return t
		}
	}
	if n > 0 {
		t.State, t.Words = "as expected", fmt.Sprintf("%d tried %s from %s", n, as(r), r.Vantage)
		if r.Handed {
			t.Words += ", handed in"
		}
	}
	return t
}

// as says as whom a report was made.
func as(r probe.Report) string {
	if r.Tester {
		return "by an identity made for it"
	}
	return "as " + r.User
}

func (s *Service) journey(ctx context.Context, in *struct {
	Drafted
	From    string    `query:"from" required:"true" doc:"User, or a group in place of one: group:NAME; a host or address where to is a person: what is opened from inside towards their device."`
	To      string    `query:"to" required:"true" doc:"Host, DNS name or address; or a user or group:NAME, if from is a host."`
	Service string    `query:"service" default:"tcp/80" doc:"Such as tcp/443, udp/53, ping."`
	At      time.Time `query:"at" doc:"The moment, for rules that have hours; now if not given."`
},
) (*body[JourneyAnswer], error) {
	m, _, persons, err := s.model(ctx, in.Draft)
	if err != nil {
		return nil, err
	}
	who, place := in.From, in.To
	groups, err := groupsOf(m, persons, in.From)
	inward := false
	if err != nil {
		g, other := groupsOf(m, persons, in.To)
		_, noPlace := destination(m, in.From)
		switch {
		case other == nil:
			groups, err, inward, who, place = g, nil, true, in.To, in.From
		case noPlace == nil: // from a place: then it is the person who is not there
			err = other
		}
	}
	if err != nil {
		return nil, err
	}
	dsts, err := destination(m, place)
	if err != nil {
		return nil, err
	}
	set, ok := m.Names.Service(in.Service)
	if !ok {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is no service: give a name from the plan, or tcp/443, udp/53, ping",
			in.Service))
	}
	c := m.Class(groups)
	p := packetFor(c, dsts, set)
	leased := netset.Addrs{}
	if p.Src.IsValid() {
		leased = netset.OfAddrs(p.Src)
	}
	at := in.At
	if at.IsZero() {
		at = time.Now()
	}
	out := JourneyAnswer{User: who, Class: c.Name(), Packet: fmt.Sprintf("%s to %s", p.Service, m.Place(p.Dst))}
	if inward {
		out.Packet = fmt.Sprintf("%s from %s to the device of %s", p.Service, m.Place(p.Dst), who)
		p.Src, p.Dst = p.Dst, p.Src
		out.Journey = m.TravelInward(c, p, leased, site.At(at))
	} else {
		out.Journey = m.Travel(c, p, leased, site.At(at))
	}
	s.addLive(&out, p, inward, in.Draft)
	if lost := out.LostAt(); lost != nil {
		out.Verdict = fmt.Sprintf("lost at %s: %s", lost.Station, lost.Words)
		if lost.Back {
			out.Verdict = fmt.Sprintf("gets there, but the answer is lost at %s: %s", lost.Station, lost.Words)
		}
		out.Fix = reach.Fix(m, c, p, lost.Station, lost.Setting, true, inward)
		out.Mend = reach.MendAll(m, c, p, out.Journey, inward)
		if e := reach.ForbiddenBy(m, reach.Class{Class: c, Users: []string{who}}, p, inward); e != nil {
			out.Fix, out.Mend = fmt.Sprintf("nothing is to be mended: expectation %s says that it must not be reached", e.Name), nil
		}
	} else {
		out.Verdict = "gets there, and the answer comes back"
	}
	return answer(out), nil
}

// addLive adds what the running gateway knows of the packet's flow. A draft does not run, and a group has no session.
func (s *Service) addLive(out *JourneyAnswer, p site.Packet, inward bool, draft string) {
	out.Flows = []forward.Flow{}
	if draft != "" || strings.HasPrefix(out.User, "group:") {
		return
	}
	peer := p.Dst
	if inward {
		peer = p.Src
	}
	sessions := 0
	for _, x := range s.Runner.Sessions() {
		if x.User == out.User {
			sessions++
		}
	}
	if sessions == 0 {
		out.Live = out.User + " is not connected now"
		return
	}
	out.Flows = s.Runner.Flows(func(user string) bool { return user == out.User }, peer, p.Service.String(), 20)
	if out.Live = fmt.Sprintf("%s is connected; no such flow is open", out.User); len(out.Flows) > 0 {
		out.Live = fmt.Sprintf("%s is connected; %d such flows are open", out.User, len(out.Flows))
	}
}

func groupsOf(m *site.Model, persons []reach.Person, who string) ([]string, error) {
	if g, ok := strings.CutPrefix(who, "group:"); ok {
		if m.Names.Groups[g] == nil {
			return nil, huma.Error404NotFound(fmt.Sprintf("there is no group %q", g))
		}
		return []string{g}, nil
	}
	for _, p := range persons {
		if p.User == who {
			return p.Groups, nil
		}
	}
	return nil, huma.Error404NotFound(fmt.Sprintf("there is no active user %q; for a group say group:NAME", who))
}

// destination finds what a person means: a host of the plan, its DNS name, or an address.
func destination(m *site.Model, to string) ([]netip.Addr, error) {
	if h := m.Names.Hosts[to]; h != nil {
		return h.Some(), nil
	}
	for _, h := range m.Plan.Hosts {
		if h.DNS == to {
			return h.Some(), nil
		}
	}
	if a, err := netip.ParseAddr(to); err == nil && a.Zone() == "" {
		return []netip.Addr{a.Unmap()}, nil
	}
	return nil, huma.Error404NotFound(fmt.Sprintf("%q is no host of the plan, no DNS name of one, and no address", to))
}

// packetFor picks address and source of a family that the pool has.
func packetFor(c *site.Class, dsts []netip.Addr, set netset.Services) site.Packet {
	p := site.Packet{Dst: dsts[0]}
	if c.Passage != nil {
	search:
		for _, d := range dsts {
			for _, s := range c.Passage.Pool {
				if s.From.Is4() == d.Is4() {
					p.Dst, p.Src = d, s.From
					break search
				}
			}
		}
	}
	own := netset.Opening6
	if p.Dst.Is4() {
		own = netset.Opening4
	}
	if fit := set.Intersect(own); len(fit) > 0 {
		set = fit
	}
	p.Service, _ = set.Example()
	return p
}

func (s *Service) order(ctx context.Context, in *struct {
	User string `query:"user" required:"true"`
},
) (*body[probe.Order], error) {
	m, number, persons, err := s.model(ctx, "")
	if err != nil {
		return nil, err
	}
	o, err := ProbeOrder(m, persons, in.User)
	if err != nil {
		return nil, err
	}
	if o.Authority, err = s.trustOf(ctx, m, o.Tunnel); err != nil {
		return nil, err
	}
	o.Revision, o.Trouble = number, s.troubles()
	return answer(*o), nil
}

// ProbeOrder says what a probe is to try for a user; authority and revision are left to the caller.
func ProbeOrder(m *site.Model, persons []reach.Person, user string) (*probe.Order, error) {
	for _, class := range reach.Classes(m, persons) {
		if slices.Contains(class.Users, user) {
			return orderFor(m, class, reach.NewComputer(m).Of(class.Class), user), nil
		}
	}
	return nil, huma.Error404NotFound(fmt.Sprintf("there is no active user %q", user))
}

// orderFor says what a probe is to try for somebody of a class; user may be empty: nobody in particular.
func orderFor(m *site.Model, class reach.Class, r reach.Reach, user string) *probe.Order {
	class.Users = []string{user}
	o := &probe.Order{
		User: user, Class: class.Name(), Dial: m.Gateway.Dial, Routes: []string{}, DNS: []netip.Addr{}, Domains: []string{}, Pool: []string{}, Outside: m.PublicAddresses(), Inside: m.OwnPrefixes(), Own: m.InsideOwn(), Suites: []string{}, Trouble: []string{},
		Trials: append(append([]reach.Trial{}, reach.Trials(m, class, r)...), reach.Edges(m, class, r, reach.MostEdges)...),
	}
	if p := class.Passage; p != nil {
		o.Admitted, o.Full, o.DNS = true, p.Passage.Routes.Full, append(o.DNS, p.DNS.Servers...)
		o.Routes, o.Passage = append(o.Routes, p.Passage.Routes.Split...), p.Name
		o.Domains = append(append(o.Domains, p.DNS.Search...), p.DNS.Domains...)
		for _, x := range p.Pool.Prefixes() {
			o.Pool = append(o.Pool, x.String())
		}
	}
	if t := tunnelFor(m, class.Passage); t != nil {
		o.TCPPort, o.MTU = t.TCPPort, t.InnerMTU()
		o.Kind = t.Kind
		o.Tunnel, o.Identity, o.Keepalive = t.Name, t.IdentityOr(m.Gateway.Dial), int(t.Keepalive.Or(plan.DefaultKeepalive).Seconds())
		o.Suites = append(o.Suites, t.SuiteNames()...)
	}
	return o
}

// tunnelFor is the first tunnel of this gateway that a passage comes by; without a passage, the gateway's first.
func tunnelFor(m *site.Model, p *site.Passage) *plan.Tunnel {
	usable := func(t *plan.Tunnel) bool { return t != nil && !t.Off && t.Gateway == m.Gateway.Name }
	if p != nil {
		for _, name := range p.Tunnels {
			if t := m.Names.Tunnels[name]; usable(t) {
				return t
			}
		}
	}
	for i := range m.Plan.Tunnels {
		if t := &m.Plan.Tunnels[i]; usable(t) {
			return t
		}
	}
	return nil
}

func (s *Service) probes(ctx context.Context, in *struct {
	Limit int `query:"limit" default:"20" minimum:"1" maximum:"200"`
},
) (*body[[]probe.Report], error) {
	records, err := s.Store.ProbeReports(ctx, 0, in.Limit)
	out := []probe.Report{}
	for _, rec := range records {
		var r probe.Report
		if json.Unmarshal([]byte(rec.Report), &r) == nil {
			out = append(out, r)
		}
	}
	return answer(out), err
}

// mostTrials is how many things one report may be about.
const mostTrials = 20000

func (s *Service) addProbe(ctx context.Context, in *struct {
	Body probe.Report `lines:"many"`
},
) (*struct{}, error) {
	r := in.Body
	tame(reflect.ValueOf(&r)) // pages and names that a probe saw are what others wrote: they are shown, and do nothing
	if len(r.Results) > mostTrials {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("this is no report that a probe writes: it holds more than %d trials",
			mostTrials))
	}
	rev, err := s.Store.Revision(ctx, r.Revision)
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no revision %d", r.Revision))
	}
	if err != nil {
		return nil, err
	}
	doc, err := s.docs.read(rev.Text)
	if err != nil {
		return nil, mistaken(err)
	}
	m, err := modelOf(&doc.Plan)
	if err != nil {
		return nil, mistaken(err)
	}
	persons, err := s.People.Persons(ctx)
	if err != nil {
		return nil, err
	}
	o, err := ProbeOrder(m, persons, r.User)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf(
			"it is about %q, and there is no active user of that name: whoever made it was not one of yours", r.User))
	}
	o.Revision = r.Revision
	r = *r.Again(*o, time.Now().UTC())
	text, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	_, err = s.Store.AddProbeReport(ctx, store.ProbeReport{
		At: time.Now().UTC(), User: r.User, Class: r.Class, Vantage: r.Vantage,
		Revision: r.Revision, OK: r.OK, Handed: true, Report: string(text),
	})
	return nil, err
}
