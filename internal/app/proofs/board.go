package proofs

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/probe"
)

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
	State string    `json:"state" enum:"not tried,as expected,differs" doc:"Of what the service tried itself."`
	Words string    `json:"words"`
	User  string    `json:"user,omitempty"`
	At    time.Time `json:"at,omitzero"`
	// Handed is apart from the rest.
	Handed string `json:"handed-in,omitempty" doc:"What the newest report says that somebody handed in: nothing vouches for it."`
}

// BoardWindow is the part of the board that is wanted.
type BoardWindow struct {
	Draft   string `query:"draft" doc:"Look at this draft in place of the newest revision."`
	People  string `query:"people" doc:"Only classes of people, users or passages with this text."`
	To      string `query:"to" doc:"Only destinations or networks with this text."`
	Trouble bool   `query:"trouble" doc:"Only classes of people with a cell that is not as it should be."`
	Row     int    `query:"row" minimum:"0" doc:"The first row, from 0."`
	Rows    int    `query:"rows" minimum:"0" doc:"How many rows at most; 0: all, as long as they have no more than 100,000 cells: row says where to go on."`
	Column  int    `query:"column" minimum:"0" doc:"The first column, from 0."`
	Columns int    `query:"columns" minimum:"0" doc:"How many columns at most; 0: all."`
	Inward  int    `query:"inward" minimum:"0" doc:"The first row of what is opened from inside, from 0; of those as many as rows are shown at most, and no more than 1,000."`
	Soon    bool   `query:"soon" doc:"Answer with what is known already, and do not wait for all of it to be computed: then unfinished is true."`
}

// Board gives a part of the board, with what trials saw of it. It costs what is shown of it, once the plan is known; and where it is wanted
// soon, before that, too.
func (s *Service) Board(ctx context.Context, in BoardWindow) (Board, error) {
	w, number, err := s.Plans.Whole(ctx, in.Draft)
	if err != nil {
		return Board{}, err
	}
	var known *reach.Known
	var work *reach.Work
	if in.Soon && !in.Trouble { // where the trouble is, is known at the end
		known, work, err = w.Soon(ctx)
	} else {
		known, err = w.Known(ctx)
	}
	if err != nil {
		return Board{}, refusal.Mistaken(err)
	}
	reports, err := s.Trials.Newest(ctx, number)
	if err != nil {
		return Board{}, err
	}
	handed, err := s.Trials.HandedIn(ctx, number)
	if err != nil {
		return Board{}, err
	}
	b := Board{Revision: number, Tried: [][]Try{}, Verdict: Verdict{Troubles: []string{}, Untried: []string{}}}
	b.Rows, b.Destinations, b.Inward = []reach.Row{}, []reach.Destination{}, []reach.InwardRow{}
	v := view{in: in, known: known, work: work, tried: byClass(reports), handed: byClass(handed)}
	if known != nil {
		v.classes, v.columns = known.Classes, known.Columns()
	} else {
		v.classes, v.columns = work.Classes, work.Columns()
	}
	if v.show(ctx, &b); ctx.Err() != nil { // nobody looks any more
		return Board{}, context.Cause(ctx)
	}
	if work != nil {
		b.Unfinished = true
		return b, nil
	}
	if in.Draft == "" {
		if b.Verdict, b.Unfinished, err = s.verdict(ctx, number, reports, in.Soon); err != nil {
			return Board{}, err
		}
	}
	return b, nil
}

// mostCells and mostInward are how many cells, and rows of what is opened from inside, one answer has at most: a large board is looked at
// in parts.
const mostCells, mostInward = 100_000, 1000

// view is the board as it is looked at.
type view struct {
	in      BoardWindow
	known   *reach.Known
	work    *reach.Work // in place of known, while it is computed
	classes []reach.Class
	columns *reach.Columns
	tried   map[string]probe.Report // the newest of the service's own, by class
	handed  map[string]probe.Report // the newest that was handed in
}

// show draws the window, as long as somebody looks.
func (v view) show(ctx context.Context, b *Board) {
	var columns []int
	for i, d := range v.columns.Destinations {
		if holdsText(v.in.To, d.Name, d.Network) {
			columns = append(columns, i)
		}
	}
	b.TotalColumns = len(columns)
	columns = window(columns, v.in.Column, v.in.Columns)
	columns = columns[:min(len(columns), mostCells)]
	for _, k := range columns {
		b.Destinations = append(b.Destinations, v.columns.Destinations[k])
	}
	var rows []int
	for i, c := range v.classes {
		bad := v.bad(i)
		b.Troubles += bad
		if (bad > 0 || !v.in.Trouble) && holdsText(v.in.People, append([]string{c.Name(), c.PassageName()}, c.Users...)...) {
			rows = append(rows, i)
		}
	}
	b.TotalRows = len(rows)
	rows = window(rows, v.in.Row, v.in.Rows)
	for _, i := range rows[:min(len(rows), mostCells/max(1, len(columns)))] {
		if ctx.Err() != nil {
			return
		}
		b.Rows = append(b.Rows, v.row(i, b.Destinations))
		report, has := v.tried[v.classes[i].Name()]
		seen := make([]Try, len(columns))
		for n, d := range b.Destinations {
			if seen[n] = (Try{State: "not tried", Words: "not tried"}); has {
				seen[n] = tried(report, d)
			}
			if claimed, has := v.handed[v.classes[i].Name()]; has {
				if t := tried(claimed, d); t.State != "not tried" {
					seen[n].Handed = fmt.Sprintf("%s handed in a report: %s, %s", claimed.By, t.State, t.Words)
				}
			}
		}
		b.Tried = append(b.Tried, seen)
	}
	v.inward(b)
}

func (v view) row(class int, to []reach.Destination) reach.Row {
	if v.known == nil {
		return v.work.Row(class, to)
	}
	return v.known.Row(class, to)
}

// bad is how many cells of a class are not as they should be, computed or tried; as far as it is known.
func (v view) bad(class int) int {
	var cells []int
	if v.known != nil {
		cells = v.known.Wrong()[class]
	}
	report, has := v.tried[v.classes[class].Name()]
	if !has {
		return len(cells)
	}
	all := slices.Clone(cells)
	for _, res := range report.Results {
		if res.Untried || res.OK {
			continue
		}
		for _, k := range v.columns.Touched(netset.OfAddrs(res.Dst)) {
			if about(res, v.columns.Destinations[k]) {
				all = append(all, k)
			}
		}
	}
	slices.Sort(all)
	return len(slices.Compact(all))
}

// inward adds what is opened from inside.
func (v view) inward(b *Board) {
	if v.known == nil {
		return
	}
	var rows []int
	for i, c := range v.classes {
		told, amiss := v.known.Inward(i)
		if amiss {
			b.Troubles++
		}
		if told && (amiss || !v.in.Trouble) && holdsText(v.in.People, append([]string{c.Name()}, c.Users...)...) {
			rows = append(rows, i)
		}
	}
	b.TotalInward = len(rows)
	rows = window(rows, v.in.Inward, v.in.Rows)
	for _, i := range rows[:min(len(rows), mostInward)] {
		b.Inward = append(b.Inward, v.known.InwardRow(i))
	}
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

// byClass finds, for each class of people, the newest report of somebody of it.
func byClass(reports []probe.Report) map[string]probe.Report {
	out := map[string]probe.Report{}
	for _, r := range reports {
		if _, seen := out[r.Class]; !seen {
			out[r.Class] = r
		}
	}
	return out
}

// about tells whether something that was tried was tried of a destination.
func about(res probe.Result, d reach.Destination) bool {
	return d.Addrs.Contains(res.Dst) && (d.Name != plan.Internet || res.Network == "")
}

func tried(r probe.Report, d reach.Destination) Try {
	t := Try{State: "not tried", Words: "not tried"}
	n := 0
	for _, res := range r.Results {
		if !about(res, d) {
			continue
		}
		if x := res; x.Edge && x.OK || x.Untried {
			continue
		}
		n++
		t.User, t.At = r.User, r.At
		if !res.OK {
			t.State, t.Words = "differs", fmt.Sprintf("%s: %s", res.Service, res.Seen.Words)
			return t
		}
	}
	if n > 0 {
		t.State, t.Words = "as expected", fmt.Sprintf("%d tried %s from %s", n, as(r), r.Vantage)
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
