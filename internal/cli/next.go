package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
)

func next(p *printer) *cli.Command {
	return &cli.Command{
		Name: "next", Usage: "what is left until the first person is in and tried",
		Action: call(func(ctx context.Context, _ *cli.Command, cl *client.Client) error {
			steps, err := client.Get[[]plans.Next](ctx, cl, "/next")
			if err != nil {
				return err
			}
			if printed, err := p.value(steps); printed {
				return err
			}
			if len(steps) == 0 {
				p.say("✓ people can come in, and were tried: yl validate says how it stands")
				return nil
			}
			for _, s := range steps {
				p.say("○ %s", s.Words)
				p.indented(4, "%s", s.How)
			}
			return nil
		}),
	}
}
