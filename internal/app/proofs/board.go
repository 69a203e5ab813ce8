package proofs

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
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
	State string    `json:"state" enum:"not tried,as expected,differs"`
	Words string    `json:"words"`
	User  string    `json:"user,omitempty"`
	At    time.Time `json:"at,omitzero"`
}

// BoardWindow is the part of the board that is wanted.
type BoardWindow struct {
	Draft   string `query:"draft" doc:"Look at this draft in place of the newest revision."`
	People  string `query:"people" doc:"Only classes of people, users or passages with this text."`
	To      string `query:"to" doc:"Only destinations or networks with this text."`
	Trouble bool   `query:"trouble" doc:"Only classes of people with a cell that is not as it should be."`
	Row     int    `query:"row" minimum:"0" doc:"The first row, from 0."`
	Rows    int    `query:"rows" minimum:"0" doc:"How many rows at most; 0: all."`
	Column  int    `query:"column" minimum:"0" doc:"The first column, from 0."`
	Columns int    `query:"columns" minimum:"0" doc:"How many columns at most; 0: all."`
}

// Board gives a part of the board, with what trials saw of it.
func (s *Service) Board(ctx context.Context, in BoardWindow) (Board, error) {
	w, number, err := s.Plans.Whole(ctx, in.Draft)
	if err != nil {
		return Board{}, err
	}
	whole, err := w.Board(ctx)
	if err != nil {
		return Board{}, refusal.Mistaken(err)
	}
	reports, err := s.Trials.Newest(ctx, number)
	if err != nil {
		return Board{}, err
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
			return Board{}, err
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
	return b, nil
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
