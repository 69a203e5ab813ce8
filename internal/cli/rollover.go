package cli

import (
	"context"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/client"
)

// rollOver changes the own authority for another one.
func rollOver(p *printer) *cli.Command {
	step := func(name, usage string, flags ...cli.Flag) *cli.Command {
		take := func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			var r trust.Rollover
			wanted := map[string]any{"step": name, "even-so": c.Bool("even-so")}
			if err := cl.Do(ctx, "POST", "/authority/rollover", wanted, &r); err != nil {
				return err
			}
			return p.rollover(r)
		}
		return &cli.Command{Name: name, Usage: usage, Flags: flags, Action: call(take)}
	}
	return &cli.Command{
		Name: "roll-over", Usage: "change the own authority for another one, without anybody being left outside",
		Action: call(func(ctx context.Context, _ *cli.Command, cl *client.Client) error {
			r, err := client.Get[trust.Rollover](ctx, cl, "/authority/rollover")
			if err != nil {
				return err
			}
			return p.rollover(r)
		}),
		Commands: []*cli.Command{
			step("announce", "make the next authority: kits hold it from now on, and yl handover says who has an older one"),
			step("sign", "let the next one sign: what the older one signed for gateways is signed anew"),
			step("finish", "forget the older one", &cli.BoolFlag{Name: "even-so", Usage: "although people have certificates of it"}),
			step("cancel", "forget the next one"),
		},
	}
}

// rollover prints how far it is, and what comes next.
func (p *printer) rollover(r trust.Rollover) error {
	if printed, err := p.value(r); printed {
		return err
	}
	show := func(what string, a *trust.Authority) {
		if a != nil {
			p.say("%s, until %s:", what, a.Expires.Local().Format(time.DateOnly))
			p.say("  %s", a.Fingerprint)
		}
	}
	show("signs", &r.Present)
	show("next", r.Next)
	show("before", r.Before)
	switch r.State {
	case "announced":
		p.say("next: hand over kits that hold both (yl handover says who has an older one), then yl certificate roll-over sign")
	case "signs":
		p.say("next: when nobody needs the older one any more, yl certificate roll-over finish")
		if len(r.People) > 0 {
			p.say("these have certificates of the older one: %s", strings.Join(r.People, ", "))
		}
	default:
		p.say("there is one authority; yl certificate roll-over announce begins a change")
	}
	return nil
}
