package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/client"
	"yellowlantern/internal/httpapi"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
)

func userFactors(p *printer) *cli.Command {
	return &cli.Command{Name: "second-factor", Usage: "who has a second factor, and by what they get one", Commands: []*cli.Command{
		{
			Name: "list", Usage: "list second factors, of one person or of everybody", ArgsUsage: "[USER]", Flags: []cli.Flag{filterFlag()},
			Action: call(p.factorList),
		},
		{
			Name: "link", Usage: "make a link by which a person gets a second factor on their phone, once", ArgsUsage: "USER",
			Flags:  []cli.Flag{&cli.IntFlag{Name: "for-hours", Value: 48, Usage: "for how long it counts"}},
			Action: call(p.personLink("second-factor-links", "gets a second factor")),
		},
		{
			Name: "add", Usage: "give a person a device that makes codes, by the secret that its maker told (base32)", ArgsUsage: "USER",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "secret-file", Required: true, Usage: "file with the secret; - for standard input"},
				&cli.BoolFlag{Name: "counter", Usage: "its codes are made by a counter (RFC 4226), not by time (RFC 6238)"},
				&cli.StringFlag{Name: "device", Usage: "what it is"},
			},
			Action: call(p.factorAdd),
		},
		{
			Name: "forget", Usage: "forget a person's second factors and which devices were remembered; their sessions go on", ArgsUsage: "USER",
			Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				name, err := argument(c, "user")
				if err == nil {
					err = cl.Do(ctx, "DELETE", "/users/"+name+"/second-factors", nil, nil)
				}
				if err != nil {
					return err
				}
				return p.done("%s has no second factor any more", name)
			}),
		},
	}}
}

func (p *printer) factorList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	fs, err := client.Get[[]people.Factor](ctx, cl, "/second-factors?user="+c.Args().First())
	if err != nil {
		return err
	}
	if printed, err := p.value(fs); printed {
		return err
	}
	var rows [][]string
	for _, f := range fs {
		used := "never"
		if !f.Used.IsZero() {
			used = local(f.Used)
		}
		row := []string{f.User, "by " + f.Kind, f.Device, local(f.Added), used, fmt.Sprint(f.Recovery)}
		if matches(c.String("filter"), row...) {
			rows = append(rows, row)
		}
	}
	p.table([]string{"user", "codes", "device", "since", "last used", "recovery codes"}, rows)
	return nil
}

func (p *printer) factorAdd(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, err := argument(c, "user")
	if err != nil {
		return err
	}
	secret, err := readFile(c.String("secret-file"))
	if err != nil {
		return err
	}
	in := members.NewFactor{Kind: "time", Secret: strings.TrimSpace(string(secret)), Device: c.String("device")}
	if c.Bool("counter") {
		in.Kind = "counter"
	}
	var made httpapi.RecoveryCodes
	if err := cl.Do(ctx, "POST", "/users/"+name+"/second-factors", in, &made); err != nil {
		return err
	}
	if printed, err := p.value(made); printed {
		return err
	}
	fmt.Fprintf(p.out, "%s has a second factor now. Recovery codes, each for once, shown this once:\n%s\n", name,
		strings.Join(made.Codes, "\n"))
	return nil
}

func userLost(p *printer) *cli.Command {
	return &cli.Command{
		Name: "lost-device", ArgsUsage: "USER",
		Usage: "end a person's sessions, forget their second factors and remembered devices, and make a link for another second factor",
		Flags: []cli.Flag{&cli.StringFlag{Name: "device", Usage: "take back the keys on this device too, by its name in yl users keys list"}},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			name, err := argument(c, "user")
			if err != nil {
				return err
			}
			var out members.Lost
			if err := cl.Do(ctx, "POST", "/users/"+name+"/lost-device", map[string]string{"device": c.String("device")}, &out); err != nil {
				return err
			}
			if printed, err := p.value(out); printed {
				return err
			}
			p.say("%s: sessions ended: %d, second factors forgotten: %d, keys taken back: %d", name, out.Sessions, out.Factors, out.Keys)
			p.linked(out.Choice, "gets another second factor")
			return nil
		}),
	}
}

// readCode reads the code of a second factor where one is asked for; without a terminal to ask at, and without a file, there is none.
func readCode(c *cli.Command, o probe.Order) (string, error) {
	path := c.String("code-file")
	switch {
	case o.CodePage == "":
		return "", nil
	case path != "":
		text, err := readFile(path)
		return strings.TrimSpace(text), err
	case !term.IsTerminal(int(os.Stdin.Fd())):
		return "", nil
	}
	fmt.Fprint(os.Stderr, "Code of the second factor: ")
	var code string
	_, err := fmt.Scanln(&code)
	return code, err
}
