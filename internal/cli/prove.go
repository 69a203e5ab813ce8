package cli

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

func prove(p *printer) *cli.Command {
	return &cli.Command{
		Name: "prove", Usage: "hold the expectations against computed reach, for all traffic", Flags: []cli.Flag{
			&cli.StringFlag{Name: "draft", Usage: "prove a draft in place of the running plan"}, filterFlag(),
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			pr, err := client.Get[proofs.Proof](ctx, cl, client.Query("/proof", "draft", c.String("draft")))
			if err != nil {
				return err
			}
			if printed, err := p.value(pr); printed {
				return firstOf(err, proofVerdict(pr.Failed))
			}
			p.Proof(pr.Results, c.String("filter"))
			return proofVerdict(pr.Failed)
		}),
	}
}

func proofVerdict(failed int) error {
	if failed > 0 {
		return Failing(ExitNot, "not proved: %d results are not as expected", failed)
	}
	return nil
}

// Proof prints results.
func (p *printer) Proof(results []reach.Result, filter string) {
	mark := map[string]string{reach.Holds: "✓ holds", reach.Fails: "✗ fails", reach.InPart: "◐ in part"}
	var rows [][]string
	for _, r := range results {
		row := []string{mark[r.Outcome], r.Expectation, r.Class, r.Words}
		if matches(filter, row...) {
			rows = append(rows, row)
		}
	}
	p.table([]string{"outcome", "expectation", "people", "why"}, rows)
	for _, r := range results {
		if r.Outcome == reach.Holds || !matches(filter, r.Expectation, r.Class) {
			continue
		}
		p.say("\n%s for %s:", r.Expectation, r.Class)
		for _, l := range r.Wrong {
			p.indented(4, "%s", l)
		}
		if r.Example != nil {
			p.indented(4, "one packet: %s from %s to %s", r.Example.Service, r.Example.Src, r.Example.Dst)
			p.indented(4, "decided at %s by %s: %s", r.Example.Station, r.Example.Setting, r.Example.Words)
			p.indented(4, "→ %s", r.Example.Fix)
		}
	}
}

func board(p *printer) *cli.Command {
	return &cli.Command{
		Name: "board", Usage: "people by destination: expected, computed, tried", Flags: []cli.Flag{
			&cli.StringFlag{Name: "draft", Usage: "a draft in place of the running plan"}, filterFlag(),
			&cli.StringFlag{Name: "people", Usage: "only classes of people, users or passages with this text"},
			&cli.StringFlag{Name: "to", Usage: "only destinations or networks with this text"},
			&cli.BoolFlag{Name: "trouble", Usage: "only people with something that is not as it should be"},
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			b, err := wholeBoard(ctx, c, cl)
			if err != nil {
				return err
			}
			if printed, err := p.value(b); printed {
				return err
			}
			var rows [][]string
			for i, r := range b.Rows {
				people := r.Class
				if r.Unseen {
					people += " (nobody seen yet)"
				}
				for k, cell := range r.Cells {
					if cell.State == reach.CellNothing {
						continue
					}
					row := []string{
						people, b.Destinations[k].Name, cell.State, orDash(cell.Expected), computedWords(cell.Computed, cell.Passes),
						triedCell(b.Tried[i][k]),
					}
					if matches(c.String("filter"), row...) {
						rows = append(rows, row)
					}
				}
			}
			if len(rows)+len(b.Inward) == 0 && c.Bool("trouble") {
				p.say("no trouble: everything that was computed and tried of the board is as it should be")
				return nil
			}
			p.table([]string{"people", "destination", "state", "expected", "computed", "tried"}, rows)
			p.inwardBoard(b.Inward, c.String("filter"))
			return nil
		}),
	}
}

// triedCell is what was tried, with what somebody handed in apart from it.
func triedCell(t proofs.Try) string {
	if t.Handed != "" {
		return t.State + " (" + t.Handed + "; it does not count)"
	}
	return t.State
}

// wholeBoard gets a board, a large one in parts.
func wholeBoard(ctx context.Context, c *cli.Command, cl *client.Client) (whole proofs.Board, err error) {
	for {
		row, inward := strconv.Itoa(len(whole.Rows)), strconv.Itoa(len(whole.Inward))
		b, err := client.Get[proofs.Board](ctx, cl, client.Query("/board", "draft", c.String("draft"), "people", c.String("people"),
			"to", c.String("to"), "trouble", strconv.FormatBool(c.Bool("trouble")), "row", row, "inward", inward))
		if err != nil {
			return whole, err
		}
		b.Rows, b.Tried = append(whole.Rows, b.Rows...), append(whole.Tried, b.Tried...)
		b.Inward = append(whole.Inward, b.Inward...)
		more := len(b.Rows)+len(b.Inward) > len(whole.Rows)+len(whole.Inward)
		if whole = b; !more || len(b.Rows) >= b.TotalRows && len(b.Inward) >= b.TotalInward {
			return whole, nil
		}
	}
}

// inwardBoard prints what is opened from inside.
func (p *printer) inwardBoard(rows []reach.InwardRow, filter string) {
	words := func(lines []reach.Line) string {
		var out []string
		for _, l := range lines {
			out = append(out, l.Services+" from "+l.From)
		}
		return strings.Join(out, "; ")
	}
	var shown [][]string
	for _, r := range rows {
		row := []string{r.Class, r.State, orDash(words(r.Expected)), computedWords(words(r.Computed), words(r.Passes))}
		if matches(filter, row...) {
			shown = append(shown, row)
		}
	}
	if len(shown) > 0 {
		p.say("\nFrom inside towards their devices:")
		p.table([]string{"people", "state", "expected", "computed"}, shown)
	}
}

// computedWords are what is reached, and what is let through where that is something else.
func computedWords(reached, passes string) string {
	if passes == "" {
		return orDash(reached)
	}
	return cmp.Or(reached, "none") + " (lets through " + passes + ")"
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func leaves(as string) string {
	if as == "" {
		return ""
	}
	return " (leaves as " + as + ")"
}

func arrives(ok bool) error {
	if !ok {
		return failure{ExitNot, fmt.Errorf("it does not get through")}
	}
	return nil
}

// Steps prints a journey.
func (p *printer) Steps(steps []site.Step) {
	var rows [][]string
	for _, s := range steps {
		way, mark := "→", "✓"
		if s.Back {
			way = "←"
		}
		if !s.OK {
			mark = "✗"
		}
		addresses := ""
		if s.Src.IsValid() {
			addresses = s.Src.String() + " → " + s.Dst.String()
		}
		rows = append(rows, []string{way + " " + mark + " " + s.Station, addresses, s.Words, s.Setting})
	}
	p.table([]string{"station", "addresses", "what happens", "setting"}, rows)
}
