package cli

import (
	"context"
	"strconv"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/client"
)

func computingCommands(p *printer) *cli.Command {
	return &cli.Command{
		Name: "computing", Usage: "what the service works out of large plans just now, and end it",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list what is being worked out, how far it is, and who waits for it", Action: call(p.computingList)},
			{Name: "stop", Usage: "end what is being worked out; who waits for it is told", ArgsUsage: "NUMBER", Action: call(p.computingStop)},
		},
	}
}

func (p *printer) computingList(ctx context.Context, _ *cli.Command, cl *client.Client) error {
	tasks, err := client.Get[[]computing.Task](ctx, cl, "/computing")
	if err != nil {
		return err
	}
	if printed, err := p.value(tasks); printed {
		return err
	}
	if len(tasks) == 0 {
		p.say("nothing is being worked out")
		return nil
	}
	var rows [][]string
	for _, t := range tasks {
		rows = append(rows, []string{strconv.Itoa(t.ID), t.Words, orDash(few(t.Waiting))})
	}
	p.table([]string{"NUMBER", "WHAT", "WAITING"}, rows)
	return nil
}

func (p *printer) computingStop(ctx context.Context, c *cli.Command, cl *client.Client) error {
	id, err := argument(c, "number, as yl computing list shows it")
	if err != nil {
		return err
	}
	if n, err := strconv.Atoi(id); err != nil || n < 1 {
		return Failing(ExitUsage, "%q is no number: yl computing list shows them", id)
	}
	if err := cl.Do(ctx, "DELETE", "/computing/"+id, nil, nil); err != nil {
		return err
	}
	return p.done("%s is ended", id)
}
