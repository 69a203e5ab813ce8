package cli

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/service"
)

func sessions(p *printer) *cli.Command {
	return &cli.Command{Name: "sessions", Usage: "list and end live sessions", Commands: []*cli.Command{
		{Name: "list", Usage: "list live sessions", Flags: []cli.Flag{filterFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			ss, err := client.Get[[]gateway.Session](ctx, cl, "/sessions")
			if err != nil {
				return err
			}
			shown := []gateway.Session{}
			for _, s := range ss {
				if matches(c.String("filter"), s.User, s.Passage, s.From, strings.Join(s.Groups, " "), addrs(s.Addresses)) {
					shown = append(shown, s)
				}
			}
			if printed, err := p.value(shown); printed {
				return err
			}
			p.Sessions(shown)
			return nil
		})},
		{Name: "end", Usage: "end a session, or all of a user's", ArgsUsage: "SESSION or USER", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			which, err := argument(c, "session or user")
			if err != nil {
				return err
			}
			ss, err := client.Get[[]gateway.Session](ctx, cl, "/sessions")
			if err != nil {
				return err
			}
			ended := 0
			for _, s := range ss {
				if s.ID != which && s.User != which {
					continue
				}
				if err := cl.Do(ctx, "DELETE", "/sessions/"+s.ID, nil, nil); err != nil {
					return err
				}
				ended++
			}
			if ended == 0 {
				return Failing(ExitRefused, "there is no live session of %q; yl sessions list shows them", which)
			}
			return p.done("sessions ended: %d", ended)
		})},
	}}
}

// Sessions prints live sessions.
func (p *printer) Sessions(ss []gateway.Session) {
	var rows [][]string
	for _, s := range ss {
		words := s.Words
		if words == "" {
			words = "fine"
		}
		rows = append(rows, []string{s.ID, s.User, s.Passage, addrs(s.Addresses), s.From, s.Since.Local().Format("15:04:05"),
			fmt.Sprintf("%d in, %d out", s.InPackets, s.OutPackets), words})
	}
	p.table([]string{"session", "user", "passage", "address", "from", "since", "packets", "state"}, rows)
}

func journal(p *printer) *cli.Command {
	return &cli.Command{Name: "journal", Usage: "the newest lines of the journal", Flags: []cli.Flag{
		&cli.StringFlag{Name: "kind", Usage: "login, refused, ended, rule or commit"},
		&cli.StringFlag{Name: "user", Usage: "lines about this user"},
		&cli.IntFlag{Name: "limit", Usage: "how many lines", Value: 30}, filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			es, err := client.Get[[]gateway.Event](ctx, cl, client.Query("/journal", "kind", c.String("kind"), "user", c.String("user"), "limit", strconv.Itoa(c.Int("limit"))))
			if err != nil {
				return err
			}
			if printed, err := p.value(es); printed {
				return err
			}
			var rows [][]string
			for _, e := range es {
				words := e.Words
				if e.Offered != "" {
					words += "; offered: " + e.Offered + "; wanted: " + e.Wanted
				}
				row := []string{local(e.Time), e.Kind, e.User, e.From, words}
				if matches(c.String("filter"), row...) {
					rows = append(rows, row)
				}
			}
			p.table([]string{"time", "what", "user", "from", "words"}, rows)
			return nil
		})}
}

func status(p *printer) *cli.Command {
	return &cli.Command{Name: "status", Usage: "what the gateway has counted", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
		s, err := client.Get[gateway.Status](ctx, cl, "/status")
		if err != nil {
			return err
		}
		o, err := client.Get[service.Outside](ctx, cl, "/outside")
		if err != nil {
			return err
		}
		if printed, err := p.value(map[string]any{"gateway": s, "outside": o}); printed {
			return err
		}
		switch {
		case o.Problem != "":
			p.say("✗ the name %s is not kept up to date: %s", o.Name, o.Problem)
		case o.Name != "":
			p.say("✓ the name %s leads to %s, looked at %s", o.Name, addrs(o.Published), local(o.At))
		}
		p.say("%d sessions, %d logins under way, %d flows", s.Sessions, s.LoggingIn, s.Flows)
		var rows [][]string
		for _, name := range slices.Sorted(maps.Keys(s.Rules)) {
			r := s.Rules[name]
			rows = append(rows, []string{name, strconv.FormatUint(r.Flows, 10), strconv.FormatUint(r.Packets, 10), strconv.FormatUint(r.Bytes, 10)})
		}
		p.table([]string{"rule", "flows", "packets", "octets"}, rows)
		rows = nil
		for _, why := range slices.Sorted(maps.Keys(s.Dropped)) {
			if s.Dropped[why] > 0 {
				rows = append(rows, []string{why, strconv.FormatUint(s.Dropped[why], 10)})
			}
		}
		if len(rows) > 0 {
			p.table([]string{"datagrams dropped", "count"}, rows)
		}
		return nil
	})}
}

func pools(p *printer) *cli.Command {
	return &cli.Command{Name: "pools", Usage: "what each pool has leased, what is kept for whom, and what is free", Flags: []cli.Flag{filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			all, err := client.Get[[]gateway.Pool](ctx, cl, "/pools?filter="+url.QueryEscape(c.String("filter")))
			if err != nil {
				return err
			}
			if printed, err := p.value(all); printed {
				return err
			}
			var rows, leases [][]string
			for _, x := range all {
				rows = append(rows, []string{x.Name, strconv.Itoa(x.Total), strconv.Itoa(x.Leased), strconv.Itoa(x.Kept), strconv.Itoa(x.Free)})
				for _, l := range x.Leases {
					state := "leased"
					switch {
					case l.Kept && l.Out:
						state = "leased, kept for them"
					case l.Kept:
						state = "kept for them"
					}
					leases = append(leases, []string{l.Address.String(), x.Name, l.Holder, state})
				}
			}
			p.table([]string{"pool", "addresses", "leased", "kept", "free"}, rows)
			if len(leases) > 0 {
				p.say("")
				p.table([]string{"address", "pool", "user", "state"}, leases)
			}
			return nil
		})}
}
