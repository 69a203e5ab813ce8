package cli

import (
	"context"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/client"
)

func sourceCommands(p *printer) *cli.Command {
	return &cli.Command{
		Name: "sources", Usage: "where people are kept beside the service's own users",
		Commands: []*cli.Command{{
			Name: "try", Usage: "try a source: its server, certificate and account, somebody in it, their groups and passage", ArgsUsage: "NAME USER",
			Flags: []cli.Flag{
				draftOf(), passwordFile(),
				&cli.StringFlag{Name: "secret-file", TakesFile: true, Usage: "file with what the service proves itself with there: for a draft with other servers than the secret is kept for"},
				&cli.BoolFlag{Name: "login", Usage: "ask for the person's password, and try their login too"},
			},
			Action: call(p.sourceTry),
		}},
	}
}

func (p *printer) sourceTry(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, user := c.Args().Get(0), c.Args().Get(1)
	if name == "" || user == "" {
		return Failing(ExitUsage, "say which source and whom: yl sources try NAME USER")
	}
	in := map[string]string{"user": user}
	if c.Bool("login") || c.String("password-file") != "" {
		password, err := readPassword(c, "Password of "+user)
		if err != nil {
			return err
		}
		in["password"] = password
	}
	if file := c.String("secret-file"); file != "" {
		b, err := readFile(file)
		if err != nil {
			return err
		}
		in["secret"] = strings.TrimSpace(string(b))
	}
	var t sources.SourceTrial
	if err := cl.Do(ctx, "POST", "/sources/"+name+"/trial"+asked(c), in, &t); err != nil {
		return err
	}
	if printed, err := p.value(t); printed {
		if err == nil && !t.OK {
			err = Failing(ExitNot, "%s", t.Words)
		}
		return err
	}
	for _, s := range t.Steps {
		mark := "✓"
		if !s.OK {
			mark = "✗"
		}
		p.say("%s %s (%s)", mark, s.Words, s.Took.Round(100*time.Microsecond))
	}
	if len(t.There) > 0 {
		p.say("their groups there: %s", strings.Join(t.There, ", "))
	}
	if !t.OK {
		if t.Fix != "" {
			return Failing(ExitNot, "%s; %s", t.Words, t.Fix)
		}
		return Failing(ExitNot, "%s", t.Words)
	}
	p.say("%s", t.Words)
	return nil
}
