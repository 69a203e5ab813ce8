package cli

import (
	"context"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/client"
	"yellowlantern/internal/httpapi"
)

// own is what administrators do about their own access.
func own(p *printer) *cli.Command {
	return &cli.Command{Name: "own", Usage: "one's own password, and where one is signed in", Commands: []*cli.Command{
		{
			Name: "password", Usage: "change one's own password; every other session and token of one's own ends",
			Flags: []cli.Flag{
				passwordFile(),
				&cli.StringFlag{Name: "new-password-file", Usage: "read the new password from a file; none: ask"},
			},
			Action: call(p.ownPassword),
		},
		{Name: "sessions", Usage: "list the browsers in which one is signed in", Action: call(p.ownSessions)},
		{Name: "end", Usage: "sign a browser out", ArgsUsage: "SESSION", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			id, err := argument(c, "session, as yl own sessions shows it")
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, "DELETE", "/me/sessions/"+id, nil, nil); err != nil {
				return err
			}
			return p.done("session %s is signed out", id)
		})},
	}}
}

func (p *printer) ownPassword(ctx context.Context, c *cli.Command, cl *client.Client) error {
	now, err := readPassword(c, "Password that holds now")
	if err != nil {
		return err
	}
	var next string
	if path := c.String("new-password-file"); path != "" {
		b, err := os.ReadFile(path)
		if err != nil {
			return Failing(ExitUsage, "new password file: %w", err)
		}
		next = strings.TrimRight(string(b), "\r\n")
	} else if next, err = askPassword("New password"); err != nil {
		return err
	}
	var n httpapi.Ended
	if err := cl.Do(ctx, "PUT", "/me/password", map[string]string{"password": now, "new": next}, &n); err != nil {
		return err
	}
	return p.done("the password is changed; %d other sessions and tokens of yours ended", n.Ended)
}

func (p *printer) ownSessions(ctx context.Context, _ *cli.Command, cl *client.Client) error {
	all, err := client.Get[[]access.OwnSession](ctx, cl, "/me/sessions")
	if err != nil {
		return err
	}
	if printed, err := p.value(all); printed {
		return err
	}
	var rows [][]string
	for _, x := range all {
		rows = append(rows, []string{x.ID, x.From, local(x.At), local(x.Expires)})
	}
	p.table([]string{"session", "from", "since", "ends"}, rows)
	return nil
}
