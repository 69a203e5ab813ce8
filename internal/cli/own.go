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
	return &cli.Command{Name: "own", Usage: "one's own password and second factor, and where one is signed in", Commands: []*cli.Command{
		ownFactor(p),
		{
			Name: "password", Usage: "change one's own password; every other session and token of one's own ends",
			Flags: []cli.Flag{
				passwordFile(),
				&cli.StringFlag{Name: "code-file", Usage: "file with the newest code of your second factor, where you have one; - for standard input"},
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
	in := map[string]string{"password": now, "new": next}
	if c.String("code-file") != "" {
		if in["code"], err = ownCode(c); err != nil {
			return err
		}
	}
	if err := cl.Do(ctx, "PUT", "/me/password", in, &n); err != nil {
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
