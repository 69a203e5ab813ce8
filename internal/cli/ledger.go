package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"strconv"

	"github.com/urfave/cli/v3"

	kept "yellowlantern/internal/app/journal"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/ledger"
)

// journalChain is what is done with the journal as a chain of lines.
func journalChain(p *printer) []*cli.Command {
	return []*cli.Command{
		{
			Name: "export", Usage: "print lines in order as JSON, one a line, with what chains them",
			Flags:  []cli.Flag{&cli.Uint64Flag{Name: "after", Usage: "only lines after that one"}},
			Action: call(p.journalExport),
		},
		{
			Name: "head", Usage: "print the newest line's hash, signed, as JSON: keep it elsewhere, and verify the journal with it later",
			Action: call(func(ctx context.Context, _ *cli.Command, cl *client.Client) error {
				h, err := client.Get[ledger.Head](ctx, cl, "/journal/head")
				if err != nil {
					return err
				}
				return json.NewEncoder(p.out).Encode(h)
			}),
		},
		{
			Name: "verify", Usage: "look whether lines were changed, put in or taken away; with heads that were kept elsewhere, whether all of it was rewritten, or its end cut off",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "heads", Usage: "file with heads as yl journal head prints them, one a line"},
				&cli.StringFlag{Name: "file", Usage: "look at this export, without a service"},
			},
			Action: func(ctx context.Context, c *cli.Command) error { return p.journalVerify(ctx, c) },
		},
	}
}

// chained walks over the service's lines after one.
func chained(ctx context.Context, cl *client.Client, after uint64, each func(ledger.Start, ledger.Line) error) (none bool,
	from ledger.Start, err error,
) {
	none = true
	for {
		x, err := client.Get[kept.Chained](ctx, cl, client.Query("/journal/lines", "after", strconv.FormatUint(after, 10), "limit", "5000"))
		if err != nil || len(x.Lines) == 0 {
			return none, x.Start, err
		}
		for _, l := range x.Lines {
			none = false
			if err := each(x.Start, l); err != nil {
				return none, x.Start, err
			}
			after = l.ID
		}
	}
}

// exported is one line of an export: where the chain begins, or a line.
type exported struct {
	Start *ledger.Start `json:"start,omitempty"`
	*ledger.Line
}

func (p *printer) journalExport(ctx context.Context, c *cli.Command, cl *client.Client) error {
	w := json.NewEncoder(p.out)
	begun := false
	none, from, err := chained(ctx, cl, c.Uint64("after"), func(from ledger.Start, l ledger.Line) error {
		if !begun && l.ID == from.ID+1 {
			if err := w.Encode(exported{Start: &from}); err != nil {
				return err
			}
		}
		begun = true
		return w.Encode(l)
	})
	if err == nil && none {
		err = w.Encode(exported{Start: &from})
	}
	return err
}

// Verified is what was found.
type Verified struct {
	Lines int    `json:"lines"`
	First uint64 `json:"first" doc:"The line that the chain begins with."`
	Last  uint64 `json:"last"`
	Heads int    `json:"heads" doc:"That it was held against."`
	// Unmatched are heads of lines that are not there any more.
	Unmatched []uint64 `json:"unmatched-heads,omitempty" doc:"The lines of heads that match none: lines before the first were removed."`
	Wrong     string   `json:"wrong,omitempty"`
}

func (p *printer) journalVerify(ctx context.Context, c *cli.Command) error {
	heads, err := readHeads(c.String("heads"))
	if err != nil {
		return err
	}
	var check *ledger.Checker
	begin := func(from ledger.Start) error {
		if check == nil {
			check, err = ledger.NewChecker(from, heads)
		}
		return err
	}
	v := Verified{Heads: len(heads)}
	each := func(from ledger.Start, l ledger.Line) error {
		if err := begin(from); err != nil {
			return err
		}
		if v.First == 0 {
			v.First = l.ID
		}
		return check.Next(l)
	}
	if path := c.String("file"); path != "" {
		err = fromFile(path, each, begin)
	} else {
		var cl *client.Client
		if cl, err = connect(c); err != nil {
			return err
		}
		var none bool
		var from ledger.Start
		if none, from, err = chained(ctx, cl, 0, each); err == nil && none {
			err = begin(from)
		}
	}
	var refused *client.Error
	if errors.As(err, &refused) || errors.Is(err, errUnread) {
		return err
	}
	if err == nil {
		err = check.End()
	}
	if check != nil {
		v.Lines, v.Last, v.Unmatched = check.Lines, check.Last().ID, check.Unmatched
	}
	if err != nil {
		v.Wrong = err.Error()
	}
	if printed, bad := p.value(v); printed {
		return firstOf(bad, chainVerdict(v))
	}
	if v.Wrong == "" {
		p.say("✓ %d lines, %d to %d: none was changed, put in or taken away", v.Lines, v.First, v.Last)
		if v.Heads == 0 {
			p.say("  held against no head that was kept elsewhere: a journal that was rewritten whole looks like this too (yl journal head)")
		} else {
			p.say("  held against %d heads", v.Heads-len(v.Unmatched))
			for _, id := range v.Unmatched {
				p.say("  the head of line %d matches no line: lines up to %d were removed", id, v.First-1)
			}
		}
	}
	return chainVerdict(v)
}

func chainVerdict(v Verified) error {
	if v.Wrong != "" {
		return failure{ExitNot, errors.New(v.Wrong)}
	}
	return nil
}

var errUnread = errors.New("it cannot be read")

func readHeads(path string) (heads []ledger.Head, err error) {
	if path == "" {
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, Failing(ExitUsage, "heads: %w", err)
	}
	d := json.NewDecoder(bytes.NewReader(text))
	for {
		var h ledger.Head
		if err := d.Decode(&h); err == io.EOF {
			return heads, nil
		} else if err != nil {
			return nil, Failing(ExitUsage, "heads: %w", err)
		}
		heads = append(heads, h)
	}
}

// fromFile walks over an export.
func fromFile(path string, each func(ledger.Start, ledger.Line) error, begin func(ledger.Start) error) error {
	f, err := os.Open(path)
	if err != nil {
		return Failing(ExitUsage, "%w: %w", errUnread, err)
	}
	defer f.Close()
	from := ledger.Start{}
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for n := 1; lines.Scan(); n++ {
		var x exported
		if err := json.Unmarshal(lines.Bytes(), &x); err != nil {
			return Failing(ExitUsage, "%s, line %d: %w: %w", path, n, errUnread, err)
		}
		switch {
		case x.Start != nil && n == 1:
			from = *x.Start
		case x.Line == nil || x.ID == 0:
			return Failing(ExitUsage, "%s, line %d: %w: it is no line of a journal", path, n, errUnread)
		default:
			if err := each(from, *x.Line); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return Failing(ExitUsage, "%s: %w: %w", path, errUnread, err)
	}
	return begin(from)
}
