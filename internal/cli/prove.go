package cli

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/service"
)

func prove(p *printer) *cli.Command {
	return &cli.Command{Name: "prove", Usage: "hold the expectations against computed reach, for all traffic", Flags: []cli.Flag{
		&cli.StringFlag{Name: "draft", Usage: "prove a draft in place of the running plan"}, filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			pr, err := client.Get[service.Proof](ctx, cl, client.Query("/proof", "draft", c.String("draft")))
			if err != nil {
				return err
			}
			if printed, err := p.value(pr); printed {
				return firstOf(err, proofVerdict(pr.Failed))
			}
			p.Proof(pr.Results, c.String("filter"))
			return proofVerdict(pr.Failed)
		})}
}

func proofVerdict(failed int) error {
	if failed > 0 {
		return Failing(ExitNot, "not proved: %d results are not as expected", failed)
	}
	return nil
}

// Proof prints results.
func (p *printer) Proof(results []reach.Result, filter string) {
	mark := map[string]string{reach.Holds: "✓ holds", reach.Fails: "✗ fails", reach.InPart: "◐ in part"}
	var rows [][]string
	for _, r := range results {
		row := []string{mark[r.Outcome], r.Expectation, r.Class, r.Words}
		if matches(filter, row...) {
			rows = append(rows, row)
		}
	}
	p.table([]string{"outcome", "expectation", "people", "why"}, rows)
	for _, r := range results {
		if r.Outcome == reach.Holds || !matches(filter, r.Expectation, r.Class) {
			continue
		}
		p.say("\n%s for %s:", r.Expectation, r.Class)
		for _, l := range r.Wrong {
			p.indented(4, "%s", l)
		}
		if r.Example != nil {
			p.indented(4, "one packet: %s from %s to %s", r.Example.Service, r.Example.Src, r.Example.Dst)
			p.indented(4, "decided at %s by %s: %s", r.Example.Station, r.Example.Setting, r.Example.Words)
			p.indented(4, "→ %s", r.Example.Fix)
		}
	}
}

func board(p *printer) *cli.Command {
	return &cli.Command{Name: "board", Usage: "people by destination: expected, computed, tried", Flags: []cli.Flag{
		&cli.StringFlag{Name: "draft", Usage: "a draft in place of the running plan"}, filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			b, err := client.Get[service.Board](ctx, cl, client.Query("/board", "draft", c.String("draft")))
			if err != nil {
				return err
			}
			if printed, err := p.value(b); printed {
				return err
			}
			var rows [][]string
			for i, r := range b.Rows {
				for k, cell := range r.Cells {
					if cell.State == reach.CellNothing {
						continue
					}
					row := []string{r.Class, b.Destinations[k].Name, cell.State, orDash(cell.Expected), orDash(cell.Computed), b.Tried[i][k].State}
					if matches(c.String("filter"), row...) {
						rows = append(rows, row)
					}
				}
			}
			p.table([]string{"people", "destination", "state", "expected", "computed", "tried"}, rows)
			return nil
		})}
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func journey(p *printer) *cli.Command {
	return &cli.Command{Name: "journey", Usage: "one packet's way there and back, with the setting that decides at each station", Flags: []cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "user, or group:NAME", Required: true},
		&cli.StringFlag{Name: "to", Usage: "host of the plan, DNS name or address, with :PORT for TCP", Required: true},
		&cli.StringFlag{Name: "service", Usage: "in place of a TCP port: ping, udp/53, or a service of the plan"},
		&cli.StringFlag{Name: "draft", Usage: "a draft in place of the running plan"},
	}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
		to, service_ := c.String("to"), c.String("service")
		if host, port, err := net.SplitHostPort(to); err == nil && service_ == "" {
			if _, err := strconv.ParseUint(port, 10, 16); err != nil {
				return Failing(ExitUsage, "%q is no port: expected 0 to 65535", port)
			}
			to, service_ = host, "tcp/"+port
		}
		j, err := client.Get[service.JourneyAnswer](ctx, cl, client.Query("/journey", "from", c.String("from"), "to", to, "service", service_, "draft", c.String("draft")))
		if err != nil {
			return err
		}
		if printed, err := p.value(j); printed {
			return firstOf(err, arrives(j.Arrives))
		}
		p.say("%s, as %s (%s)", j.Packet, j.User, j.Class)
		p.Steps(j.Steps)
		p.say("\n%s", j.Verdict)
		if j.Fix != "" {
			p.say("→ %s", j.Fix)
		}
		return arrives(j.Arrives)
	})}
}

func arrives(ok bool) error {
	if !ok {
		return failure{ExitNot, fmt.Errorf("it does not get through")}
	}
	return nil
}

// Steps prints a journey.
func (p *printer) Steps(steps []site.Step) {
	var rows [][]string
	for _, s := range steps {
		way, mark := "→", "✓"
		if s.Back {
			way = "←"
		}
		if !s.OK {
			mark = "✗"
		}
		rows = append(rows, []string{way + " " + mark + " " + s.Station, s.Src.String() + " → " + s.Dst.String(), s.Words, s.Setting})
	}
	p.table([]string{"station", "addresses", "what happens", "setting"}, rows)
}

func probeCommand(p *printer) *cli.Command {
	return &cli.Command{Name: "probe", Usage: "log in as a remote user from a vantage, and try each expectation through the tunnel", Flags: []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "whom to log in as", Required: true},
		&cli.StringFlag{Name: "vantage", Usage: "place of the site lab to try from; this-network for the network that this machine is on", Value: "home"},
		passwordFile(),
		&cli.StringFlag{Name: "key-log", Usage: "write the keys to this file, for a packet analyser; whoever reads it can read all traffic"},
		&cli.BoolFlag{Name: "keep-to-yourself", Usage: "do not hand the report in to the service"},
	}, Action: call(p.probe)}
}

func (p *printer) probe(ctx context.Context, c *cli.Command, cl *client.Client) error {
	user := c.String("user")
	order, err := client.Get[probe.Order](ctx, cl, client.Query("/probes/order", "user", user))
	if err != nil {
		return err
	}
	password, err := readPassword(c, "Password of "+user)
	if err != nil {
		return err
	}
	opt := probe.Options{Password: password}
	if path := c.String("key-log"); path != "" {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return Failing(ExitUsage, "key log: %w", err)
		}
		defer f.Close()
		fmt.Fprintf(os.Stderr, "KEYS ARE BEING LOGGED to %s: whoever reads it can read all traffic\n", path)
		opt.KeyLog = f
	}
	u, err := underlay(ctx, cl, c.String("vantage"))
	if err != nil {
		return err
	}
	defer u.Close()
	if !p.json && term.IsTerminal(int(os.Stderr.Fd())) {
		opt.Progress = func(done, of int) { fmt.Fprintf(os.Stderr, "\rtrying %d of %d", done, of) }
	}
	r, err := probe.Run(ctx, u, order, opt)
	if opt.Progress != nil {
		fmt.Fprint(os.Stderr, "\r                       \r")
	}
	if err != nil {
		return err
	}
	if !c.Bool("keep-to-yourself") {
		if err := cl.Do(ctx, "POST", "/probes", r, nil); err != nil {
			return err
		}
	}
	if printed, err := p.value(r); printed {
		return firstOf(err, probeVerdict(*r))
	}
	p.Report(*r)
	return probeVerdict(*r)
}

func underlay(ctx context.Context, cl *client.Client, name string) (probe.Underlay, error) {
	if name == "this-network" {
		return probe.Host(), nil
	}
	vs, err := client.Get[[]service.Vantage](ctx, cl, "/vantages")
	if err != nil {
		return nil, err
	}
	known := []string{"this-network"}
	for _, v := range vs {
		if v.Name == name {
			return probe.Vantage(ctx, v.Link)
		}
		known = append(known, v.Name)
	}
	return nil, Failing(ExitUsage, "there is no vantage %q; there are %s", name, strings.Join(known, ", "))
}

func probeVerdict(r probe.Report) error {
	if !r.OK {
		return Failing(ExitNot, "%d of %d trials did not see what was expected; %d differ from what was computed", r.Missed, len(r.Results), r.Differs)
	}
	return nil
}

// Report prints what a probe saw.
func (p *printer) Report(r probe.Report) {
	p.say("probe as %s (%s) from %s, revision %d", r.User, r.Class, r.Vantage, r.Revision)
	p.say("login: %s", r.Login)
	if g := r.Given; g != nil {
		p.say("given: address %s; name servers %s; domains %s; routes %s", addrs(g.Addresses), addrs(g.DNS), orDash(strings.Join(g.Domains, ", ")), strings.Join(g.Routes, ", "))
	}
	var rows [][]string
	for _, x := range r.Results {
		mark, want := "✓", "reach"
		if !x.Want {
			want = "keep out"
		}
		if !x.OK {
			mark = "✗"
		}
		before := "–"
		if x.Before != nil {
			before = x.Before.Words
		}
		rows = append(rows, []string{mark, x.Place, x.Dst.String(), x.Service, want, before, x.Seen.Words})
	}
	p.table([]string{"", "destination", "address", "service", "expected", "before", "seen through the tunnel"}, rows)
	agree := "computed and tried agree"
	if r.Differs > 0 {
		agree = fmt.Sprintf("%d differ from what was computed", r.Differs)
	}
	p.say("%d of %d as expected; %s", len(r.Results)-r.Missed, len(r.Results), agree)
	seen := map[string]bool{}
	for _, x := range r.Results {
		if x.Likely != "" && !seen[x.Likely] {
			seen[x.Likely] = true
			p.say("→ %s", x.Likely)
		}
	}
	for _, cause := range r.Causes {
		if !seen[cause] {
			p.say("→ %s", cause)
		}
	}
}

func addrs(as []netip.Addr) string {
	words := make([]string, len(as))
	for i, a := range as {
		words[i] = a.String()
	}
	return orDash(strings.Join(words, ", "))
}
