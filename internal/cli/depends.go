package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

func surplus(p *printer) *cli.Command {
	return &cli.Command{
		Name: "surplus", Usage: "what people reach that no expectation asks for", Flags: []cli.Flag{
			&cli.StringFlag{Name: "draft", Usage: "look at a draft in place of the running plan"}, filterFlag(),
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			a, err := client.Get[plans.SurplusAnswer](ctx, cl, client.Query("/surplus", "draft", c.String("draft")))
			if err != nil {
				return err
			}
			var rows [][]string
			shown := []reach.Surplus{}
			for _, s := range a.Surplus {
				kept := []reach.Line{}
				for _, l := range s.Lines {
					if row := []string{s.Class, l.String()}; matches(c.String("filter"), row...) {
						rows, kept = append(rows, row), append(kept, l)
					}
				}
				if s.Lines = kept; len(kept) > 0 {
					shown = append(shown, s)
				}
			}
			a.Surplus = shown
			if printed, err := p.value(a); printed {
				return err
			}
			p.table([]string{"people", "reach"}, rows)
			if len(a.Pins) > 0 {
				p.say("\nWhat of it is meant can be pinned: an expectation then says so, and is proved at every change.")
				for _, pin := range a.Pins {
					p.say("    yl plan pin %s", pin.Rule)
				}
			}
			return nil
		}),
	}
}

// planPin adds expectations for what rules permit.
func (p *printer) planPin(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name := c.String("draft")
	d, err := begun(ctx, cl, name)
	if err != nil {
		return err
	}
	if d.Version == 0 { // what surplus looks at must be kept
		if d, err = save(ctx, cl, d, d.Text); err != nil {
			return err
		}
	}
	a, err := client.Get[plans.SurplusAnswer](ctx, cl, client.Query("/surplus", "draft", name))
	if err != nil {
		return err
	}
	wanted, edits := c.Args().Slice(), []plan.Edit{}
	for _, pin := range a.Pins {
		if len(wanted) == 0 || slices.Contains(wanted, pin.Rule) {
			edits = append(edits, plan.Edit{Op: "add", Path: "expectations", Value: pin.Expectation})
		}
	}
	if len(edits) == 0 || len(wanted) > len(edits) {
		return Failing(ExitNot, "there is nothing to pin of that: yl surplus --draft %s shows what there is", name)
	}
	return p.change(ctx, cl, d, edits)
}

func depends(p *printer) *cli.Command {
	return &cli.Command{
		Name: "depends", Usage: "which reach and which expectations depend on a setting; of all of them, and what nothing depends on, if none is named", ArgsUsage: "[SETTING]", Flags: []cli.Flag{draftFlag(), filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			setting := c.Args().First()
			if setting == "" {
				return p.dependences(ctx, c, cl)
			}
			draft, err := begun(ctx, cl, c.String("draft"))
			if err != nil {
				return err
			}
			var d plans.Depends
			if err := cl.Do(ctx, "POST", "/depends", map[string]string{"text": draft.Text, "setting": setting}, &d); err != nil {
				return err
			}
			if printed, err := p.value(d); printed {
				return err
			}
			if len(d.Reach)+len(d.Fails) == 0 {
				p.say("Nothing depends on %s: without it nobody would gain or lose reach, and no expectation would fail.", setting)
				return nil
			}
			when := ""
			if d.Hours != "" {
				when = ", within its hours, " + d.Hours
			}
			p.say("Without %s%s:", setting, when)
			p.reachChanges(d.Reach)
			for _, r := range d.Fails {
				p.say("✗ %s would fail for %s: %s", r.Expectation, r.Class, r.Words)
			}
			return nil
		}),
	}
}

// dependences lists what depends on every setting, such that nothing depends on first.
func (p *printer) dependences(ctx context.Context, c *cli.Command, cl *client.Client) error {
	draft := ""
	if c.IsSet("draft") {
		draft = c.String("draft")
	}
	ds, err := client.Get[[]reach.Dependence](ctx, cl, client.Query("/depends", "draft", draft, "filter", c.String("filter")))
	if err != nil {
		return err
	}
	if printed, err := p.value(ds); printed {
		return err
	}
	slices.SortStableFunc(ds, func(a, b reach.Dependence) int { return len(a.Classes) + len(a.Fails) - len(b.Classes) - len(b.Fails) })
	var rows [][]string
	for _, d := range ds {
		who, fails := fmt.Sprintf("%d people: %s", d.Users, few(d.Classes)), few(d.Fails)
		if d.Idle {
			who = "nothing depends on it"
		}
		rows = append(rows, []string{d.Setting, who, fails})
	}
	p.table([]string{"without", "would gain or lose reach", "would fail"}, rows)
	return nil
}
