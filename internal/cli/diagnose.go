package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/diagnosis"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/diagnose"
)

// complaints are what people say, in the order in which they come to it.
var complaints = []struct{ name, says string }{
	{diagnose.CannotConnect, "cannot connect"},
	{diagnose.ReachesNothing, "connects, and reaches nothing"},
	{diagnose.ReachesSome, "reaches this and not that"},
	{diagnose.NamesFail, "names do not resolve"},
	{diagnose.Slow, "slow, or large pages hang"},
	{diagnose.Drops, "drops after a while"},
}

func diagnoseCommand(p *printer) *cli.Command {
	var words []string
	for _, c := range complaints {
		words = append(words, c.name+": "+c.says+map[bool]string{true: " (say --to)"}[c.name == diagnose.ReachesSome])
	}
	return &cli.Command{
		Name: "diagnose", Usage: "from what a person complains of to its likely causes, each with its evidence and the change that mends it", ArgsUsage: "USER",
		Description: "Complaints:\n  " + strings.Join(words, "\n  "),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "complaint", Usage: "what the person says", Required: true},
			&cli.StringFlag{Name: "to", Usage: "what they do not reach: a host of the plan, a DNS name or an address"},
			&cli.StringFlag{Name: "service", Usage: "by which service, such as tcp/443, ping, or a service of the plan"},
			&cli.StringFlag{Name: "vantage", Usage: "try from there, with commas between, or every; not given: from the first that there is"},
			&cli.BoolFlag{Name: "no-trial", Usage: "look at what is known already, and try nothing"},
			&cli.StringFlag{Name: "bundle", Usage: "write the evidence, without secrets, into this ZIP file for whoever helps; it must not exist"},
		}, Action: call(p.diagnose),
	}
}

func (p *printer) diagnose(ctx context.Context, c *cli.Command, cl *client.Client) error {
	user, err := argument(c, "user")
	if err != nil {
		return err
	}
	in := map[string]any{
		"user": user, "complaint": c.String("complaint"), "to": c.String("to"), "service": c.String("service"),
		"no-trial": c.Bool("no-trial"), "vantages": commas(c.String("vantage")),
	}
	known := false
	for _, x := range complaints {
		known = known || x.name == c.String("complaint")
	}
	if !known {
		return Failing(ExitUsage, "%q is no complaint: yl diagnose --help lists them", c.String("complaint"))
	}
	if path := c.String("bundle"); path != "" {
		return p.bundle(ctx, cl, path, in)
	}
	var d diagnosis.Diagnosis
	if err := cl.Do(ctx, "POST", "/diagnose", in, &d); err != nil {
		return err
	}
	if printed, err := p.value(d); printed {
		return err
	}
	p.say("%s (%s) %s", d.User, d.Class, saysOf(d.Complaint))
	for i, x := range d.Causes {
		p.say("\n%d. %s: %s", i+1, sureness(x.Sure), x.Words)
		p.indented(4, "→ %s", x.Fix)
		if x.Setting != "" {
			p.indented(4, "setting: %s", x.Setting)
		}
		for _, e := range x.Evidence {
			p.indented(4, "because of %s", e)
		}
		for _, e := range x.Mend {
			p.indented(4, "apply: yl plan %s %s %s", e.Op, e.Path, quoted(e.Value))
		}
	}
	p.say("\nlooked at: %s", strings.Join(d.Looked, "; "))
	return nil
}

// quoted puts a value for a shell into quotes, where it needs any.
func quoted(v string) string {
	if v == "" || !strings.ContainsAny(v, " {}[]'\"") {
		return v
	}
	return "'" + strings.ReplaceAll(v, "'", `'\''`) + "'"
}

func saysOf(complaint string) string {
	for _, c := range complaints {
		if c.name == complaint {
			return c.says
		}
	}
	return complaint
}

// sureness says in a word how strongly the evidence speaks.
func sureness(n int) string {
	switch {
	case n >= 90:
		return fmt.Sprintf("certain (%d)", n)
	case n >= 60:
		return fmt.Sprintf("likely (%d)", n)
	}
	return fmt.Sprintf("possible (%d)", n)
}

func (p *printer) bundle(ctx context.Context, cl *client.Client, path string, in any) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return Failing(ExitUsage, "bundle: %w", err)
	}
	defer f.Close()
	n, err := cl.Fetch(ctx, "POST", "/diagnose/bundle", in, f)
	if err != nil {
		_ = os.Remove(path)
		return err
	}
	return p.done("%s holds the evidence, %d octets, without secrets", path, n)
}
