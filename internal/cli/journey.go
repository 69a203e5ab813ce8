package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reach"
)

func journey(p *printer) *cli.Command {
	return &cli.Command{
		Name: "journey", Usage: "one packet's way there and back, with the setting that decides at each station",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "user, or group:NAME; or a host or address, where to is a person"},
			&cli.StringFlag{Name: "to", Usage: "host of the plan, DNS name or address, with :PORT for TCP; or a user or group:NAME"},
			&cli.StringFlag{Name: "service", Usage: "in place of a TCP port: ping, udp/53, or a service of the plan"},
			&cli.StringFlag{Name: "draft", Usage: "a draft in place of the running plan"},
			&cli.BoolFlag{Name: "held", Usage: "as long as the session is held, before the second factor is given"},
			&cli.StringFlag{Name: "at", Usage: "the moment, for rules with hours: 22:30 or 2026-12-24T22:30 in the plan's time zone, or RFC 3339; now if not given"},
			&cli.StringFlag{Name: "packets", Usage: "follow many: a `FILE` of CSV with the columns from, to, service and at, the last two optional; - is standard input", TakesFile: true},
		}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			if c.IsSet("packets") {
				return p.journeys(ctx, c, cl)
			}
			if c.String("from") == "" || c.String("to") == "" {
				return Failing(ExitUsage, "say --from and --to, or --packets FILE for many")
			}
			to, service_, err := portOf(c.String("to"), c.String("service"))
			if err != nil {
				return err
			}
			j, err := client.Get[proofs.JourneyAnswer](ctx, cl,
				client.Query("/journey", "from", c.String("from"), "to", to, "service", service_, "draft", c.String("draft"),
					"held", map[bool]string{true: "true"}[c.Bool("held")],
					"at", c.String("at")))
			if err != nil {
				return err
			}
			if printed, err := p.value(j); printed {
				return firstOf(err, arrives(j.Arrives || j.Answered))
			}
			p.say("%s, as %s (%s)", j.Packet, j.User, j.Class)
			p.Steps(j.Steps)
			p.say("\n%s", j.Verdict)
			if j.Fix != "" {
				p.say("→ %s", j.Fix)
			}
			for _, e := range j.Mend {
				p.indented(4, "apply: yl plan %s %s %s", e.Op, e.Path, quoted(e.Value))
			}
			if x := j.Machine; x != nil {
				mark := map[bool]string{true: "as the plan says", false: "and the plan says " + x.Planned}[x.Same]
				p.say("the machine's kernel: %s, %s", x.Way, mark)
			}
			if j.Live != "" {
				p.say("at the gateway: %s", j.Live)
			}
			for _, f := range j.Flows {
				p.indented(4, "%s → %s%s: %d packets from them, %d to them, by rule %s %s", f.Src, f.Dst, leaves(f.Leaves), f.Sent, f.Got,
					f.Rule, f.Words)
			}
			return arrives(j.Arrives || j.Answered)
		}),
	}
}

// portOf takes a port from a destination, where no service is given.
func portOf(to, service string) (string, string, error) {
	host, port, err := net.SplitHostPort(to)
	if err != nil || service != "" {
		return to, service, nil
	}
	if _, err := strconv.ParseUint(port, 10, 16); err != nil {
		return "", "", Failing(ExitUsage, "%q is no port: expected 0 to 65535", port)
	}
	return host, "tcp/" + port, nil
}

const mostPackets = 1000 // in one call

// journeys follows the packets of a file.
func (p *printer) journeys(ctx context.Context, c *cli.Command, cl *client.Client) error {
	b, err := readFile(c.String("packets"))
	if err != nil {
		return err
	}
	packets, err := packetsOf(b)
	if err != nil {
		return Failing(ExitUsage, "%s: %v", c.String("packets"), err)
	}
	all := []proofs.JourneyResult{}
	for part := range slices.Chunk(packets, mostPackets) {
		var some []proofs.JourneyResult
		if err := cl.Do(ctx, "POST", "/journeys", proofs.ManyJourneys{Draft: c.String("draft"), Packets: part}, &some); err != nil {
			return err
		}
		all = append(all, some...)
	}
	lost := 0
	var rows [][]string
	for _, r := range all {
		mark := "✓"
		if !r.Arrives {
			lost++
			mark = "✗"
		}
		words := r.Verdict
		if r.Problem != "" {
			words = r.Problem
		}
		rows = append(rows, []string{mark + " " + r.From, r.To, r.Service, words, r.Setting})
	}
	if printed, err := p.value(all); !printed {
		p.table([]string{"from", "to", "service", "what happens", "setting"}, rows)
		p.say("\n%d of %d get through", len(all)-lost, len(all))
	} else if err != nil {
		return err
	}
	if lost > 0 {
		return failure{ExitNot, fmt.Errorf("%d of %d packets do not get through", lost, len(all))}
	}
	return nil
}

// packetsOf reads packets from CSV: with a first line of names, or by position.
func packetsOf(text string) (out []proofs.OneOfMany, err error) {
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comment = -1, true, '#'
	for {
		rec, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		if line == 1 && rec[0] == "from" {
			continue
		}
		if len(rec) < 2 || len(rec) > 4 {
			return nil, fmt.Errorf("line %d has %d columns: expected from, to, service, at", line, len(rec))
		}
		rec = append(rec, "", "")
		x := proofs.OneOfMany{From: strings.TrimSpace(rec[0]), Service: strings.TrimSpace(rec[2]), At: strings.TrimSpace(rec[3])}
		if x.To, x.Service, err = portOf(strings.TrimSpace(rec[1]), x.Service); err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, errors.New("there is no packet in it")
	}
	return out, nil
}

// reachCommand gives somebody's reach as data.
func reachCommand(p *printer) *cli.Command {
	return &cli.Command{
		Name: "reach", Usage: "somebody's reach as sets of addresses and services: everything, and nothing shortened", ArgsUsage: "USER|group:NAME",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "only of this host, network, prefix, address or range"},
			&cli.StringFlag{Name: "draft", Usage: "look at a draft in place of the running plan, and at what is gained and lost by it"},
			filterFlag(),
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			who := c.Args().First()
			if who == "" {
				return Failing(ExitUsage, "say whose: yl reach USER, or yl reach group:NAME")
			}
			d, err := client.Get[proofs.DataAnswer](ctx, cl,
				client.Query("/reach", "who", who, "to", c.String("to"), "draft", c.String("draft")))
			if err != nil {
				return err
			}
			if printed, err := p.value(d); printed {
				return err
			}
			var rows [][]string
			add := func(what string, sets []reach.Set) {
				for _, s := range sets {
					row := []string{what, strings.Join(s.People, ", "), strings.Join(s.Peers, ", "), strings.Join(s.Services, ", ")}
					if matches(c.String("filter"), row...) {
						rows = append(rows, row)
					}
				}
			}
			for _, side := range []struct {
				way   string
				sides reach.Sides
			}{{"", d.Outward}, {"from inside: ", d.Inward}} {
				add(side.way+"reaches", side.sides.Full)
				add(side.way+"let through", slices.DeleteFunc(slices.Clone(side.sides.Enforced), func(s reach.Set) bool {
					return slices.ContainsFunc(side.sides.Full, func(f reach.Set) bool { return reflect.DeepEqual(s, f) })
				}))
				add(side.way+"excess", side.sides.Excess)
			}
			if d.Gained != nil {
				add("gained", d.Gained.Outward)
				add("from inside: gained", d.Gained.Inward)
				add("lost", d.Lost.Outward)
				add("from inside: lost", d.Lost.Inward)
			}
			p.say("%s (%s), by passage %s", who, d.Class, orDash(d.Passage))
			p.table([]string{"what", "leased address", "other end", "services"}, rows)
			return nil
		}),
	}
}
