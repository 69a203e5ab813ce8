package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/client"
	"yellowlantern/internal/httpapi"
)

const rolesUsage = "administrator (everything), operator (watches, tries, ends sessions), help-desk (looks after people) or auditor (reads)"

// administrators are who may use the service.
func administrators(p *printer) *cli.Command {
	role := func() cli.Flag { return &cli.StringFlag{Name: "role", Usage: rolesUsage, Required: true} }
	return &cli.Command{Name: "administrators", Usage: "who may use the service, and as what", Commands: []*cli.Command{
		{Name: "list", Usage: "list administrators", Flags: []cli.Flag{filterFlag()}, Action: call(p.administratorList)},
		{Name: "add", Usage: "add one, with a password that is made and shown once", ArgsUsage: "NAME", Flags: []cli.Flag{role()}, Action: call(
			func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				name, err := argument(c, "name")
				if err != nil {
					return err
				}
				var made access.NewAdministrator
				if err := cl.Do(ctx, "POST", "/administrators", map[string]string{"name": name, "role": c.String("role")},
					&made); err != nil {
					return err
				}
				if printed, err := p.value(made); printed {
					return err
				}
				p.say("%s is %s now; their first password, shown this once, counts only to choose another with:", name, made.Role)
				p.indented(2, "%s", made.Password)
				return nil
			})},
		{Name: "role", Usage: "give one another role", ArgsUsage: "NAME", Flags: []cli.Flag{role()}, Action: call(
			func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				name, err := argument(c, "name")
				if err == nil {
					err = cl.Do(ctx, "PUT", "/administrators/"+name+"/role", map[string]string{"role": c.String("role")}, nil)
				}
				if err != nil {
					return err
				}
				return p.done("%s is %s now", name, c.String("role"))
			})},
		{
			Name: "password", Usage: "make one another password, shown once; what they have open ends", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "forget-second-factor", Usage: "they lost it: they set up another"}},
			Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				name, err := argument(c, "name")
				if err != nil {
					return err
				}
				var made httpapi.MadePassword
				in := map[string]bool{"forget-second-factor": c.Bool("forget-second-factor")}
				if err := cl.Do(ctx, "POST", "/administrators/"+name+"/password", in, &made); err != nil {
					return err
				}
				if printed, err := p.value(made); printed {
					return err
				}
				if made.Password == "" {
					p.say("the second factor of %s is forgotten, and they are signed out; their password is their source's", name)
					return nil
				}
				p.say("the password of %s, shown this once, counts only to choose another with:", name)
				p.indented(2, "%s", made.Password)
				return nil
			}),
		},
		{Name: "sign-out", Usage: "sign one out of every browser; their tokens stay (yl tokens list)", ArgsUsage: "NAME", Action: call(
			func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				name, err := argument(c, "name")
				if err != nil {
					return err
				}
				var n httpapi.Ended
				if err := cl.Do(ctx, "DELETE", "/administrators/"+name+"/sessions", nil, &n); err != nil {
					return err
				}
				return p.done("%s is signed out of %d browsers", name, n.Ended)
			})},
		{
			Name: "requests", Usage: "requests that wait for another administrator's approval, where the plan says approve-commits; of one, all of it",
			ArgsUsage: "[REQUEST]", Flags: []cli.Flag{filterFlag()}, Action: call(p.requests),
		},
		{Name: "approve", Usage: "approve a request, which is done at once", ArgsUsage: "REQUEST", Action: call(
			func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				id, err := argument(c, "request")
				if err != nil {
					return err
				}
				var done httpapi.Approved
				if err := cl.Do(ctx, "POST", "/requests/"+id+"/approval", nil, &done); err != nil {
					return err
				}
				if printed, err := p.value(done); printed {
					return err
				}
				p.say("done: %s", done.Words)
				var answer any
				_ = json.Unmarshal(done.Answer, &answer)
				if made := passwordsIn(answer); len(made) > 0 {
					p.say("passwords that were made, shown this once; each counts only to choose another with:")
					for _, line := range made {
						p.indented(2, "%s", line)
					}
				}
				return nil
			})},
		{Name: "withdraw", Usage: "withdraw a request", ArgsUsage: "REQUEST", Action: call(
			func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				id, err := argument(c, "request")
				if err == nil {
					err = cl.Do(ctx, "DELETE", "/requests/"+id, nil, nil)
				}
				if err != nil {
					return err
				}
				return p.done("request %s is withdrawn", id)
			})},
		{Name: "remove", Usage: "remove one; what they have open ends", ArgsUsage: "NAME", Action: call(
			func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				name, err := argument(c, "name")
				if err == nil {
					err = cl.Do(ctx, "DELETE", "/administrators/"+name, nil, nil)
				}
				if err != nil {
					return err
				}
				return p.done("%s is no administrator any more", name)
			})},
	}}
}

func (p *printer) administratorList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	all, err := client.Get[[]access.Administrator](ctx, cl, "/administrators")
	if err != nil {
		return err
	}
	if printed, err := p.value(all); printed {
		return err
	}
	var rows [][]string
	for _, a := range all {
		state := "no second factor"
		if a.Factor {
			state = "with a second factor"
		}
		if a.MustChange {
			state = "has not chosen a password yet"
		}
		if a.LastResort {
			state += "; last resort"
		}
		if a.Idle {
			state += "; does not sign in"
		}
		row := []string{a.Name, a.Role, cmp.Or(a.Source, "here"), state, fmt.Sprint(a.Sessions), fmt.Sprint(a.Tokens), local(a.At)}
		if matches(c.String("filter"), row...) {
			rows = append(rows, row)
		}
	}
	p.table([]string{"administrator", "role", "kept in", "state", "browsers", "tokens", "since"}, rows)
	return nil
}

// ownFactor is one's own second factor.
func ownFactor(p *printer) *cli.Command {
	return &cli.Command{Name: "second-factor", Usage: "one's own second factor for signing in", Commands: []*cli.Command{
		{Name: "begin", Usage: "show a secret for an app that makes codes by time; nothing is kept yet", Action: call(
			func(ctx context.Context, _ *cli.Command, cl *client.Client) error {
				e, err := client.Get[access.OwnEnrolling](ctx, cl, "/me/second-factor")
				if err != nil {
					return err
				}
				if printed, err := p.value(e); printed {
					return err
				}
				p.say("type this secret into an app that makes codes by time, keep it in a file, and run yl own second-factor take:")
				p.indented(2, "%s", e.Secret)
				return nil
			})},
		{
			Name: "take", Usage: "have it asked for from now on, with a code that it made",
			Flags: []cli.Flag{
				passwordFile(),
				&cli.StringFlag{Name: "secret-file", Required: true, Usage: "file with the secret that was shown"},
				&cli.StringFlag{Name: "code-file", Usage: "file with the newest code; - for standard input; none: ask"},
			},
			Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				secret, err := readFile(c.String("secret-file"))
				if err != nil {
					return err
				}
				password, err := readPassword(c, "Your password")
				if err != nil {
					return err
				}
				code, err := ownCode(c)
				if err != nil {
					return err
				}
				var made httpapi.RecoveryCodes
				if err := cl.Do(ctx, "PUT", "/me/second-factor", map[string]string{
					"password": password, "secret": strings.TrimSpace(secret), "code": code,
				}, &made); err != nil {
					return err
				}
				if printed, err := p.value(made); printed {
					return err
				}
				p.say("it is asked for from now on. Recovery codes, each for once, shown this once:")
				p.indented(2, "%s", strings.Join(made.Codes, "\n"))
				return nil
			}),
		},
		{
			Name: "forget", Usage: "forget it, with the password and a code",
			Flags: []cli.Flag{passwordFile(), &cli.StringFlag{Name: "code-file", Usage: "file with the newest code; - for standard input; none: ask"}},
			Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				password, err := readPassword(c, "Your password")
				if err != nil {
					return err
				}
				code, err := ownCode(c)
				if err == nil {
					err = cl.Do(ctx, "POST", "/me/second-factor/forget", map[string]string{"password": password, "code": code}, nil)
				}
				if err != nil {
					return err
				}
				return p.done("you have no second factor any more")
			}),
		},
	}}
}

func ownCode(c *cli.Command) (string, error) {
	if path := c.String("code-file"); path != "" {
		text, err := readFile(path)
		return strings.TrimSpace(text), err
	}
	return askPassword("Code")
}

// requests lists what waits for approval, or shows one whole.
func (p *printer) requests(ctx context.Context, c *cli.Command, cl *client.Client) error {
	if id := c.Args().First(); id != "" {
		r, err := client.Get[httpapi.WaitingWhole](ctx, cl, "/requests/"+id)
		if err != nil {
			return err
		}
		if printed, err := p.value(r); printed {
			return err
		}
		p.say("%s", r.Words)
		p.say("requested by %s, %s", r.By, local(r.At))
		p.indented(2, "%s", r.Content)
		return nil
	}
	all, err := client.Get[[]httpapi.Waiting](ctx, cl, "/requests")
	if err != nil {
		return err
	}
	var rows [][]string
	shown := []httpapi.Waiting{}
	for _, r := range all {
		row := []string{strconv.Itoa(int(r.ID)), r.Words, r.By, local(r.At)}
		if matches(c.String("filter"), row...) {
			rows, shown = append(rows, row), append(shown, r)
		}
	}
	if printed, err := p.value(shown); printed {
		return err
	}
	p.table([]string{"request", "what it does", "requested by", "since"}, rows)
	return nil
}

// passwordsIn finds the passwords that an answer holds, each behind whose it is.
func passwordsIn(answer any) (out []string) {
	switch x := answer.(type) {
	case []any:
		for _, one := range x {
			out = append(out, passwordsIn(one)...)
		}
	case map[string]any:
		if made, _ := x["password"].(string); made != "" {
			whose, _ := x["name"].(string)
			if user, _ := x["user"].(string); user != "" {
				whose = user
			}
			out = append(out, strings.TrimSpace(whose+"  "+made))
		}
		for _, key := range slices.Sorted(maps.Keys(x)) {
			out = append(out, passwordsIn(x[key])...)
		}
	}
	return out
}
