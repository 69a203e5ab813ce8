package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/check"
)

// knownGroups asks about groups that the running plan does not have: a slip of the hand gives a user who gets in nowhere.
func knownGroups(ctx context.Context, c *cli.Command, cl *client.Client) error {
	if len(c.StringSlice("group")) == 0 || c.Bool("new-group") {
		return nil
	}
	have, err := client.Get[[]members.Group](ctx, cl, "/groups")
	if err != nil || len(have) == 0 { // there is no plan yet
		return err
	}
	for _, g := range c.StringSlice("group") {
		if slices.ContainsFunc(have, func(x members.Group) bool { return x.Name == g }) {
			continue
		}
		text := fmt.Sprintf("the running plan has no group %q", g)
		for _, x := range have {
			if check.Slips(g, x.Name) <= 2 {
				text += fmt.Sprintf(": did you mean %s?", x.Name)
				break
			}
		}
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return Failing(ExitUsage,
				"%s; nothing was changed; say --new-group if it is to come (yl groups lists those that there are)", text)
		}
		fmt.Fprintf(os.Stderr, "%s Take it all the same? [y/N] ", text)
		var said string
		_, _ = fmt.Scanln(&said)
		if !strings.EqualFold(said, "y") && !strings.EqualFold(said, "yes") {
			return Failing(ExitUsage, "nothing was changed")
		}
	}
	return nil
}

func groups(p *printer) *cli.Command {
	return &cli.Command{
		Name: "groups", Usage: "list the running plan's groups with their members", Flags: []cli.Flag{filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			gs, err := client.Get[[]members.Group](ctx, cl, "/groups")
			if err != nil {
				return err
			}
			if printed, err := p.value(gs); printed {
				return err
			}
			var rows [][]string
			for _, g := range gs {
				row := []string{g.Name, orNone(g.Passage), strings.Join(g.Members, ", "), g.Note}
				if matches(c.String("filter"), row...) {
					rows = append(rows, row)
				}
			}
			p.table([]string{"group", "passage", "members", "note"}, rows)
			return nil
		}),
	}
}

func tokens(p *printer) *cli.Command {
	return &cli.Command{Name: "tokens", Usage: "list API tokens, and make them worthless", Commands: []*cli.Command{
		{Name: "list", Usage: "list tokens", Flags: []cli.Flag{filterFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			ts, err := client.Get[[]access.TokenInfo](ctx, cl, "/tokens")
			if err != nil {
				return err
			}
			if printed, err := p.value(ts); printed {
				return err
			}
			var rows [][]string
			for _, t := range ts {
				expires := "never"
				if !t.Expires.IsZero() {
					expires = local(t.Expires)
				}
				used, role := "never", "as "+t.Administrator
				if !t.Used.IsZero() {
					used = local(t.Used)
				}
				if t.Role != "" {
					role = t.Role
				}
				row := []string{t.ID, t.Name, t.Administrator, role, local(t.At), used, expires}
				if matches(c.String("filter"), row...) {
					rows = append(rows, row)
				}
			}
			p.table([]string{"token", "for", "administrator", "may do", "made", "last used", "ends"}, rows)
			return nil
		})},
		{Name: "remove", Usage: "make a token worthless", ArgsUsage: "TOKEN", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			id, err := argument(c, "token, as yl tokens list shows it")
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, "DELETE", "/tokens/"+id, nil, nil); err != nil {
				return err
			}
			return p.done("token %s is worthless", id)
		})},
	}}
}

func signOut(p *printer) *cli.Command {
	return &cli.Command{
		Name: "sign-out", Usage: "make the access that is kept worthless, and forget it",
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			if err := cl.Do(ctx, "DELETE", "/tokens/own", nil, nil); err != nil {
				return err
			}
			if err := os.Remove(c.String("access")); err != nil {
				return err
			}
			return p.done("signed out")
		}),
	}
}
