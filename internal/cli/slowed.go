package cli

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/client"
	"yellowlantern/internal/httpapi"
)

func slowed(p *printer) *cli.Command {
	return &cli.Command{
		Name: "slowed", Usage: "list who has to wait after wrong passwords, and let them try at once",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list names with wrong passwords of the last hour, by where they came from", Action: call(p.slowedList)},
			{
				Name: "lift", Usage: "let the next password be looked at at once", ArgsUsage: "[NAME]",
				Flags:  []cli.Flag{&cli.StringFlag{Name: "source", Usage: "only from this address, or its /64 of IPv6"}},
				Action: call(p.slowedLift),
			},
		},
	}
}

func (p *printer) slowedList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	list, err := client.Get[[]members.Slowed](ctx, cl, "/slowed")
	if err != nil {
		return err
	}
	var rows [][]string
	for _, x := range list {
		wait := "may try now"
		if left := time.Until(x.Until); left > 0 {
			wait = "waits " + left.Round(time.Second).String()
		}
		from := "everywhere"
		if x.Source.IsValid() {
			from = strings.TrimSuffix(x.Source.String(), "/32")
		}
		rows = append(rows, []string{x.Name, x.For, from, strconv.Itoa(x.Wrong), wait})
	}
	if done, err := p.value(list); done {
		return err
	}
	if len(rows) == 0 {
		p.say("nobody had a wrong password in the last hour")
		return nil
	}
	p.table([]string{"NAME", "FOR", "FROM", "WRONG", "STATE"}, rows)
	return nil
}

func (p *printer) slowedLift(ctx context.Context, c *cli.Command, cl *client.Client) error {
	var n httpapi.Lifted
	if err := cl.Do(ctx, "DELETE", client.Query("/slowed", "name", c.Args().First(), "source", c.String("source")), nil, &n); err != nil {
		return err
	}
	if n.Lifted == 0 {
		return p.done("nobody had to wait")
	}
	return p.done("lifted, for %d names by where they came from", n.Lifted)
}
