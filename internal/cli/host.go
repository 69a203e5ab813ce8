package cli

import (
	"context"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/inside/linux"
)

func hostCommand(p *printer) *cli.Command {
	device := &cli.StringFlag{Name: "device", Usage: "name of the gateway's tunnel device", Value: linux.Device}
	return &cli.Command{
		Name: "host", Usage: "this machine as a gateway: whether it can be one, what a plan would make of it, and the way back",
		Commands: []*cli.Command{
			{Name: "check", Usage: "whether this machine has what a gateway needs, and how to mend what is missing; changes nothing", Flags: []cli.Flag{
				device, filterFlag(),
				&cli.StringFlag{Name: "dial", Usage: "the name that people dial: does it lead here?"},
			}, Action: p.hostCheck},
			{Name: "preview", Usage: "routes, settings and rules that the running plan has made here, or a draft would make, and how they differ from what is there", Flags: []cli.Flag{
				&cli.StringFlag{Name: "draft", Usage: "a draft, in place of the newest revision"},
				&cli.BoolFlag{Name: "changes", Usage: "only what would be made or taken away"},
				filterFlag(),
			}, Action: call(p.hostPreview)},
			{Name: "clear", Usage: "end the gateway on this machine, and take everything of ours away from it", Flags: []cli.Flag{
				device,
				&cli.StringFlag{Name: "data", Usage: "the gateway's folder; none: that of the installed one"},
			}, Action: p.hostClear},
		},
	}
}

func (p *printer) hostCheck(ctx context.Context, c *cli.Command) error {
	all := linux.CheckMachine(ctx, c.String("device"), c.String("dial"))
	count := map[string]int{}
	for _, x := range all {
		count[x.State]++
	}
	word := c.String("filter")
	all = slices.DeleteFunc(all, func(x linux.Check) bool { return !strings.Contains(x.Name+" "+x.Words+" "+x.State, word) })
	printed, err := p.value(all)
	if err != nil {
		return err
	}
	if !printed {
		for _, x := range all {
			mark := map[string]string{linux.Fine: "✓", linux.Poor: "!", linux.Missing: "✗"}[x.State]
			p.say("%s %-16s %s", mark, x.Name, x.Words)
			if x.Mend != "" {
				p.indented(19, "→ %s", x.Mend)
			}
		}
		p.say("")
	}
	if n := count[linux.Missing]; n > 0 {
		return Failing(ExitNot, "%d missing, %d poor: this machine cannot be a gateway yet; mend what is marked ✗", n, count[linux.Poor])
	}
	if !printed {
		p.say("This machine can be a gateway; %d poor.", count[linux.Poor])
	}
	return nil
}

func (p *printer) hostPreview(ctx context.Context, c *cli.Command, cl *client.Client) error {
	v, err := client.Get[inside.Preview](ctx, cl, client.Query("/machine", "draft", c.String("draft")))
	if err != nil {
		return err
	}
	changes := 0
	for _, l := range v.Lines {
		if l.Is != inside.Same {
			changes++
		}
	}
	word, only := c.String("filter"), c.Bool("changes")
	v.Lines = slices.DeleteFunc(v.Lines, func(l inside.Line) bool {
		return only && l.Is == inside.Same || !strings.Contains(l.Text, word)
	})
	if printed, err := p.value(v); printed {
		return err
	}
	for _, l := range v.Lines {
		p.say("%s %s", map[string]string{inside.Same: " ", inside.New: "+", inside.Gone: "-"}[l.Is], strings.ReplaceAll(l.Text, "\t", "    "))
	}
	for _, problem := range v.Problems {
		p.say("✗ %s", problem.Words)
	}
	switch {
	case len(v.Problems) > 0:
		return Failing(ExitNot, "this machine does not fit the plan")
	case changes == 0:
		p.say("\nAll of it is there already.")
	default:
		p.say("\n%d lines would change (+ made, - taken away); nothing was changed now.", changes)
	}
	return nil
}

func (p *printer) hostClear(_ context.Context, c *cli.Command) error {
	folder := c.String("data")
	for _, installed := range []string{"/var/lib/yellow-lantern-gateway", "/var/lib/yellow-lantern"} {
		if _, err := os.Stat(installed); folder == "" && err == nil {
			folder = installed
		}
	}
	done, err := linux.Clear(c.String("device"), folder)
	if printed, e := p.value(map[string]any{"done": done}); printed {
		if err != nil {
			return Failing(ExitNot, "%w", err)
		}
		return e
	}
	for _, what := range done {
		p.say("%s", what)
	}
	if err != nil {
		return Failing(ExitNot, "%w", err)
	}
	return nil
}
