package cli

import (
	"cmp"
	"context"
	"io"
	"os"
	"strconv"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/client"
	"yellowlantern/internal/report"
)

func validate(p *printer) *cli.Command {
	return &cli.Command{
		Name: "validate", Usage: "findings, proof and newest trials of the running plan in one verdict and one exit code", Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "text, html (one page to print) or junit (XML for pipelines)", Value: "text"},
			&cli.StringFlag{Name: "out", Usage: "write html or junit into this file; not given: print it"},
			&cli.BoolFlag{Name: "try", Usage: "try as every class of people first"},
			&cli.StringFlag{Name: "vantage", Usage: "with --try: from where, with commas between, or every; the first that there is if not given"},
			&cli.BoolFlag{Name: "tried", Usage: "not enough as long as a class of people has not tried this revision"},
		},
		Action: call(p.validate),
	}
}

func (p *printer) validate(ctx context.Context, c *cli.Command, cl *client.Client) error {
	if c.Bool("try") {
		var round trials.Round
		err := cl.Do(ctx, "POST", "/rounds", map[string]any{"vantages": commas(c.String("vantage"))}, &round)
		if err == nil {
			_, err = p.awaitRound(ctx, cl, round.ID)
		}
		if err != nil {
			return err
		}
	}
	r, err := client.Get[report.Report](ctx, cl, "/report")
	if err != nil {
		return err
	}
	switch format := c.String("format"); format {
	case "html", "junit":
		err = p.writeReport(&r, format, c.String("out"))
	case "text":
		if printed, errJSON := p.value(r); printed {
			err = errJSON
		} else {
			p.validation(&r)
		}
	default:
		return Failing(ExitUsage, "--format is text, html or junit, not %q", format)
	}
	switch {
	case err != nil:
		return err
	case !r.OK:
		return Failing(ExitNot, "not valid: %s", r.Verdict)
	case c.Bool("tried") && len(r.Untried) > 0:
		return Failing(ExitNot, "not tried yet: %s; yl probe --user USER", few(r.Untried))
	}
	return nil
}

func (p *printer) writeReport(r *report.Report, format, out string) error {
	var w io.Writer = p.out
	if out != "" {
		file, err := os.OpenFile(out, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return Failing(ExitUsage, "--out: %w", err)
		}
		defer file.Close()
		w = file
	}
	if format == "junit" {
		return r.JUnit(w)
	}
	return r.HTML(w)
}

func failedLogins(n int) string {
	if n == 0 {
		return ""
	}
	return ", " + strconv.Itoa(n) + " logins failed"
}

func (p *printer) validation(r *report.Report) {
	for _, t := range r.Troubles {
		p.say("✗ %s", t)
	}
	n := r.Count()
	p.table([]string{"revision " + strconv.Itoa(r.Revision), ""}, [][]string{
		{"findings", strconv.Itoa(n.Stops) + " that stop it, " + strconv.Itoa(n.Warnings) + " warnings"},
		{"computed", strconv.Itoa(len(r.Proof)) + " results, " + strconv.Itoa(n.Failed) + " not as expected"},
		{"tried", strconv.Itoa(n.Tried) + " trials by " + strconv.Itoa(len(r.Trials)) + " logins, " + strconv.Itoa(n.Missed-n.Out) + " not as expected, " + strconv.Itoa(n.Differ) + " other than computed" + failedLogins(n.Out)},
		{"not tried", orNone(few(r.Untried))},
	})
	for _, t := range r.Trials {
		if !t.Connected && !t.Barred {
			p.say("✗ %s from %s cannot log in, so nothing was tried: %s", t.Class, t.Vantage, t.Login)
		}
		for _, x := range t.Results {
			if !x.OK {
				p.say("✗ %s, %s from %s: %s at %s: %s", cmp.Or(x.Expectation, "a boundary of what is computed"), t.Class, t.Vantage, x.Service, x.Place, x.Words)
			}
		}
		for _, x := range t.Checks {
			if !x.OK {
				p.say("✗ %s, %s from %s: %s", x.Name, t.Class, t.Vantage, x.Words)
			}
		}
	}
	for _, t := range r.HandedIn {
		p.say("? %s from %s (%s) %s; nothing vouches for it, and it does not count as tried", t.Class, t.Vantage, t.Who(), t.Outcome())
	}
	mark := "✗"
	if r.OK {
		mark = "✓"
	}
	p.say("%s %s", mark, r.Verdict)
}

// few joins the first of many names.
func few(list []string) string {
	out := ""
	for i, w := range list {
		switch {
		case i == 8:
			return out + " and " + strconv.Itoa(len(list)-8) + " more"
		case i > 0:
			out += ", "
		}
		out += w
	}
	return out
}
