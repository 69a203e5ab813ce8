package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

func sessions(p *printer) *cli.Command {
	return &cli.Command{Name: "sessions", Usage: "list and end live sessions", Commands: []*cli.Command{
		{Name: "list", Usage: "list live sessions", Flags: []cli.Flag{filterFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			ss, err := client.Get[[]watching.LiveSession](ctx, cl, "/sessions")
			if err != nil {
				return err
			}
			shown := []watching.LiveSession{}
			for _, s := range ss {
				if matches(c.String("filter"), s.User, s.Passage, s.From, strings.Join(s.Groups, " "), addrs(s.Addresses), s.Flag) {
					shown = append(shown, s)
				}
			}
			if printed, err := p.value(shown); printed {
				return err
			}
			plain := make([]gateway.Session, len(shown))
			for i, s := range shown {
				plain[i] = s.Session
				plain[i].Words = s.Flag
			}
			p.Sessions(plain)
			return nil
		})},
		{Name: "past", Usage: "sessions that ended, the newest first", Flags: []cli.Flag{
			&cli.StringFlag{Name: "user", Usage: "of this user"}, &cli.IntFlag{Name: "limit", Usage: "how many", Value: 30}, filterFlag(),
		}, Action: call(p.pastSessions)},
		{Name: "record", Usage: "record a live session's packets at the gateway as a pcapng file, which packet analysers read", ArgsUsage: "SESSION or USER", Flags: []cli.Flag{
			&cli.StringFlag{Name: "out", Usage: "file to write; it must not exist", Required: true},
			&cli.DurationFlag{Name: "for", Usage: "how long at most, up to 10m", Value: 30 * time.Second},
			&cli.IntFlag{Name: "octets", Usage: "how large at most, up to 100000000", Value: 10000000},
			&cli.StringSliceFlag{Name: "station", Usage: "tunnel (as the device sees it) or inside (as it leaves the gateway); both if not given"},
		}, Action: call(p.record)},
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

func (p *printer) pastSessions(ctx context.Context, c *cli.Command, cl *client.Client) error {
	ss, err := client.Get[[]watching.PastSession](ctx, cl,
		client.Query("/sessions/past", "user", c.String("user"), "limit", strconv.Itoa(c.Int("limit"))))
	if err != nil {
		return err
	}
	var rows [][]string
	kept := []watching.PastSession{}
	for _, s := range ss {
		row := []string{
			s.User, s.Passage, s.From + " " + s.Over, local(s.Since), s.Until.Sub(s.Since).Round(time.Second).String(),
			fmt.Sprintf("%d / %d", s.InBytes, s.OutBytes), s.Words,
		}
		if matches(c.String("filter"), row...) {
			rows, kept = append(rows, row), append(kept, s)
		}
	}
	if printed, err := p.value(kept); printed {
		return err
	}
	p.table([]string{"user", "passage", "from", "since", "lasted", "octets from / to", "ended"}, rows)
	return nil
}

// record writes to a new file: nothing is written over.
func (p *printer) record(ctx context.Context, c *cli.Command, cl *client.Client) error {
	which, err := argument(c, "session or user")
	if err != nil {
		return err
	}
	f, err := os.OpenFile(c.String("out"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return Failing(ExitUsage, "recording: %w", err)
	}
	defer f.Close()
	q := url.Values{"seconds": {strconv.Itoa(int(c.Duration("for").Seconds()))}, "octets": {strconv.Itoa(c.Int("octets"))}}
	if s := c.StringSlice("station"); len(s) > 0 {
		q.Set("stations", strings.Join(s, ","))
	}
	n, err := cl.Stream(ctx, "/sessions/"+url.PathEscape(which)+"/recording?"+q.Encode(), f)
	if err != nil && n == 0 {
		_ = os.Remove(c.String("out"))
		return err
	}
	return p.done("%s holds %d octets of packets of %s", c.String("out"), n, which)
}

func flows(p *printer) *cli.Command {
	return &cli.Command{
		Name: "flows", Usage: "live flows with their counters, and what is remarkable about them", Flags: []cli.Flag{
			&cli.StringFlag{Name: "user", Usage: "of this user"}, &cli.StringFlag{Name: "peer", Usage: "with this address at the other end"},
			&cli.StringFlag{Name: "service", Usage: "of this service, such as tcp/443"}, &cli.IntFlag{Name: "limit", Usage: "how many", Value: 50}, filterFlag(),
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			fs, err := client.Get[[]forward.Flow](ctx, cl,
				client.Query("/flows", "user", c.String("user"), "peer", c.String("peer"), "service", c.String("service"), "limit",
					strconv.Itoa(c.Int("limit"))))
			if err != nil {
				return err
			}
			var rows [][]string
			kept := []forward.Flow{}
			for _, f := range fs {
				row := []string{f.User, f.Src, f.Dst, f.Service, f.Leaves, f.Rule, fmt.Sprintf("%d / %d", f.Sent, f.Got), f.Words}
				if matches(c.String("filter"), row...) {
					rows, kept = append(rows, row), append(kept, f)
				}
			}
			if printed, err := p.value(kept); printed {
				return err
			}
			p.table([]string{"user", "from", "to", "service", "leaves as", "rule", "packets from / to", "remarkable"}, rows)
			return nil
		}),
	}
}

// sized writes octets so that their size is seen at once.
func sized(n uint64) string {
	switch {
	case n < 10_000:
		return strconv.FormatUint(n, 10)
	case n < 10_000_000:
		return fmt.Sprintf("%.1f k", float64(n)/1e3)
	case n < 10_000_000_000:
		return fmt.Sprintf("%.1f M", float64(n)/1e6)
	}
	return fmt.Sprintf("%.1f G", float64(n)/1e9)
}

// heard is when something last came.
func heard(at time.Time) string {
	if at.IsZero() {
		return "never"
	}
	return at.Local().Format("15:04:05")
}

// Sessions prints live sessions.
func (p *printer) Sessions(ss []gateway.Session) {
	var rows [][]string
	for _, s := range ss {
		words := s.Words
		if words == "" {
			words = "fine"
		}
		has := addrs(s.Addresses) + prefixes(s.Prefixes)
		rows = append(rows, []string{s.ID, s.User, s.Passage, has, s.From, s.Since.Local().Format("15:04:05"), words},
			[]string{
				"", "", "by " + s.Tunnel, s.Suite + ": " + s.Later(), sized(s.InBytes) + " in, " + sized(s.OutBytes) + " out", "heard " + heard(s.Heard), "",
			})
	}
	p.table([]string{"session", "user", "passage", "address, algorithms", "from, octets", "since", "state"}, rows)
}

func journal(p *printer) *cli.Command {
	return &cli.Command{
		Name: "journal", Usage: "the newest lines of the journal", Flags: []cli.Flag{
			&cli.StringFlag{Name: "kind", Usage: "login, refused, ended, rule, commit, trust, name, reach, record, machine, equipment or change"},
			&cli.StringFlag{Name: "text", Usage: "lines with this text in them, however old"},
			&cli.StringFlag{Name: "user", Usage: "lines about this user"},
			&cli.StringFlag{Name: "code", Usage: "lines with this reason, as --json shows it: wrong-password"},
			&cli.StringSliceFlag{Name: "with", Usage: "lines whose reason has this parameter: passage=staff (again for more)"},
			&cli.IntFlag{Name: "limit", Usage: "how many lines", Value: 30}, filterFlag(),
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			var with []string
			for _, w := range c.StringSlice("with") {
				with = append(with, "with", w)
			}
			es, err := client.Get[[]gateway.Event](ctx, cl,
				client.Query("/journal", append([]string{
					"kind", c.String("kind"), "user", c.String("user"), "text", c.String("text"),
					"code", c.String("code"), "limit", strconv.Itoa(c.Int("limit")),
				}, with...)...))
			if err != nil {
				return err
			}
			if printed, err := p.value(es); printed {
				return err
			}
			var rows [][]string
			for _, e := range es {
				words := e.Words
				if offered := e.With[reason.Offered]; offered != "" {
					words += "; offered: " + offered + "; wanted: " + e.With[reason.Wanted]
				}
				row := []string{local(e.Time), e.Kind, e.User, e.From, words}
				if matches(c.String("filter"), row...) {
					rows = append(rows, row)
				}
			}
			p.table([]string{"time", "what", "user", "from", "words"}, rows)
			return nil
		}),
		Commands: journalChain(p),
	}
}

func status(p *printer) *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "whether people can get in, what to do where they cannot, and what the gateway has counted",
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			s, err := client.Get[running.Status](ctx, cl, "/status")
			if err != nil {
				return err
			}
			points, err := client.Get[[]standing.Point](ctx, cl, "/standing")
			if err != nil {
				return err
			}
			wrong := 0
			for _, x := range points {
				if x.State == standing.Wrong {
					wrong++
				}
			}
			failing := func() error {
				if wrong == 0 {
					return nil
				}
				return Failing(ExitNot, "%d of %d things are wrong", wrong, len(points))
			}
			if printed, err := p.value(map[string]any{"gateway": s, "points": points}); printed {
				return cmp.Or(err, failing())
			}
			p.points(points)
			var rows [][]string
			for _, name := range slices.Sorted(maps.Keys(s.Rules)) {
				r := s.Rules[name]
				rows = append(rows, []string{
					name, strconv.FormatUint(r.Flows, 10), strconv.FormatUint(r.Packets, 10),
					strconv.FormatUint(r.Bytes, 10),
				})
			}
			if len(rows) > 0 {
				p.table([]string{"rule", "flows", "packets", "octets"}, rows)
			}
			rows = nil
			for _, why := range slices.Sorted(maps.Keys(s.Dropped)) {
				if s.Dropped[why] > 0 {
					rows = append(rows, []string{why, strconv.FormatUint(s.Dropped[why], 10)})
				}
			}
			if len(rows) > 0 {
				p.table([]string{"datagrams dropped", "count"}, rows)
			}
			return failing()
		}),
	}
}

func pools(p *printer) *cli.Command {
	return &cli.Command{
		Name: "pools", Usage: "what each pool has leased, what is kept for whom, and what is free", Flags: []cli.Flag{filterFlag()},
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
				rows = append(rows, []string{
					x.Name, strconv.Itoa(x.Total), strconv.Itoa(x.Leased), strconv.Itoa(x.Kept),
					strconv.Itoa(x.Free),
				})
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
		}),
	}
}

// outside asks a mirror elsewhere.
func outside(p *printer) *cli.Command {
	return &cli.Command{
		Name: "outside", Usage: "ask a mirror elsewhere (yl mirror) which address it sees, and whether it gets in",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "mirror", Usage: "its address and port, such as 203.0.113.80:8743", Required: true},
			&cli.StringFlag{Name: "token-file", Usage: "what it printed is in this file; -: read it from standard input", Required: true},
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			var b []byte
			var err error
			if path := c.String("token-file"); path == "-" {
				b, err = io.ReadAll(io.LimitReader(os.Stdin, 1<<10))
			} else {
				b, err = os.ReadFile(path)
			}
			if err != nil {
				return Failing(ExitUsage, "token: %w", err)
			}
			var e standing.Evidence
			in := map[string]string{"mirror": c.String("mirror"), "token": strings.TrimSpace(string(b))}
			if err := cl.Do(ctx, "POST", "/outside/mirror", in, &e); err != nil {
				return err
			}
			failing := func() error {
				if slices.ContainsFunc(e.Points, func(x standing.Point) bool { return x.State != standing.Right }) {
					return Failing(ExitNot, "not everything is reached from outside as the plan says")
				}
				return nil
			}
			if printed, err := p.value(e); printed {
				return cmp.Or(err, failing())
			}
			p.points(e.Points)
			return failing()
		}),
	}
}

// points prints how things stand.
func (p *printer) points(all []standing.Point) {
	signs := map[string]string{standing.Right: "✓", standing.Risky: "!", standing.Wrong: "✗"}
	for _, x := range all {
		p.say("%s %s: %s", signs[x.State], x.Name, x.Words)
		if x.Mend != "" {
			p.indented(4, "mend: %s", x.Mend)
		}
	}
}

// prefixes are those that a session has beside its addresses.
func prefixes(ps []netip.Prefix) (out string) {
	for _, p := range ps {
		out += " (" + p.String() + ")"
	}
	return out
}
