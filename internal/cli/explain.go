package cli

import (
	"context"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/whois"
	"yellowlantern/internal/client"
	"yellowlantern/internal/httpapi"
	"yellowlantern/internal/people"
)

func everybody(p *printer) *cli.Command {
	return &cli.Command{
		Name: "people", Usage: "everybody who may come in, wherever they are kept, and what a gateway makes of them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the service's own users, and people of sources who logged in lately", Flags: []cli.Flag{filterFlag()}, Action: call(p.everybodyList)},
			{
				Name: "explain", Usage: "say where somebody is kept, which passage takes them and why not another, what they reach, and what keeps them out",
				ArgsUsage: "NAME", Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "find people who match no passage, and groups that nobody is in"}},
				Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
					if c.Bool("all") {
						return p.oddPeople(ctx, cl)
					}
					name, err := argument(c, "person")
					if err != nil {
						return err
					}
					return p.explain(ctx, cl, name)
				}),
			},
			{
				Name: "forget", Usage: "forget somebody of a source, with their second factors and keys here, so that another source's person can have the name",
				ArgsUsage: "NAME", Action: named("person", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					if err := cl.Do(ctx, "DELETE", "/people-elsewhere/"+url.PathEscape(name), nil, nil); err != nil {
						return err
					}
					return p.done("%s is forgotten", name)
				}),
			},
		},
	}
}

func (p *printer) everybodyList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	filter := c.String("filter")
	own, err := everyUser(ctx, cl, filter)
	if err != nil {
		return err
	}
	others, err := client.Get[[]httpapi.EveryPerson](ctx, cl, "/people-elsewhere?"+url.Values{"filter": {filter}}.Encode())
	if err != nil {
		return err
	}
	all := []httpapi.EveryPerson{}
	var rows [][]string
	for _, u := range own {
		all = append(all, httpapi.EveryPerson{User: u.Name, Name: u.FullName, Source: people.Source, Groups: u.Groups})
		rows = append(rows, []string{u.Name, u.FullName, people.Source, strings.Join(u.Groups, ", "), stateOf(u, time.Now())})
	}
	for _, x := range others {
		state := "last here " + local(x.Last)
		if x.Gone {
			state = "not let in there any more"
		}
		rows = append(rows, []string{x.User, x.Name, x.Source, strings.Join(x.Groups, ", "), state})
	}
	if printed, err := p.value(append(all, others...)); printed {
		return err
	}
	p.table([]string{"person", "name", "kept in", "groups", "state"}, rows)
	return nil
}

func (p *printer) explain(ctx context.Context, cl *client.Client, name string) error {
	x, err := client.Get[whois.ExplainedPerson](ctx, cl, "/people/"+url.PathEscape(name)+"/explanation")
	if err != nil {
		return err
	}
	stopped := 0
	for _, a := range x.Against {
		if a.Stops {
			stopped++
		}
	}
	var no error
	if stopped > 0 {
		no = Failing(ExitNot, "%s cannot come in as it is", x.User)
	}
	if printed, err := p.value(x); printed {
		if err == nil {
			err = no
		}
		return err
	}
	for _, a := range x.Against {
		mark := "!"
		if a.Stops {
			mark = "✗"
		}
		p.say("%s %s", mark, a.Words)
		if a.Fix != "" {
			p.indented(2, "→ %s", a.Fix)
		}
	}
	for _, l := range x.Looked {
		p.say("%s %s: %s", map[bool]string{true: "✓", false: "·"}[l.Found], l.Source, l.Words)
	}
	p.say("groups: %s", orNone(strings.Join(x.Groups, ", ")))
	for _, c := range x.Passages {
		p.say("%s passage %s: %s", map[bool]string{true: "✓", false: "·"}[c.Takes], c.Name, c.Words)
	}
	var rows [][]string
	for _, r := range x.Reaches {
		rows = append(rows, []string{r.To, computedWords(r.Services, r.Passes)})
	}
	if len(rows) > 0 {
		p.table([]string{"reaches", "services"}, rows)
	}
	by := strings.Join(x.Devices, ", ")
	if by == "" {
		by = "a password"
	}
	p.say("comes by: %s; sessions now: %d", by, x.Sessions)
	for _, l := range x.Logins {
		p.say("%s %s %s", map[bool]string{true: "✓", false: "✗"}[l.OK], local(l.At), l.Words)
	}
	return no
}

func (p *printer) oddPeople(ctx context.Context, cl *client.Client) error {
	x, err := client.Get[whois.OddPeople](ctx, cl, "/people-odd")
	if err != nil {
		return err
	}
	if printed, err := p.value(x); printed {
		return err
	}
	p.say("people who match no passage: %s", orNone(strings.Join(x.Outside, ", ")))
	p.say("groups that nobody is in who was seen: %s", orNone(strings.Join(x.Empty, ", ")))
	p.say("groups that no passage admits: %s", orNone(strings.Join(x.Unused, ", ")))
	return nil
}
