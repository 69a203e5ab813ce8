package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/begin"
)

const firstCertificate = "gate" // as a begun plan names it

var devices = []string{"windows", "apple", "android", "own-client"}

func start(p *printer) *cli.Command {
	return &cli.Command{
		Name: "start", Usage: "answer a few questions and get a first plan as a draft, each choice with its reason",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "site", Usage: "what the site is called"},
			&cli.StringFlag{Name: "dial", Usage: "public name or address that people dial"},
			&cli.StringSliceFlag{Name: "outside", Usage: "public address of the gateway"},
			&cli.StringFlag{Name: "in-front", Usage: "public address of a router in front; --outside is the gateway's own towards it then"},
			&cli.StringSliceFlag{Name: "network", Usage: "inside network as NAME=PREFIX, or NAME=PREFIX@ROUTER if it lies behind a router of the first one"},
			&cli.StringSliceFlag{Name: "reach", Usage: "GROUP=NETWORK+NETWORK:SERVICE+SERVICE, such as staff=office:tcp/443+ping"},
			&cli.StringSliceFlag{Name: "device", Usage: "what people connect with: " + strings.Join(devices, ", ")},
			&cli.StringSliceFlag{Name: "dns", Usage: "inside name server"},
			&cli.StringFlag{Name: "search", Usage: "inside domain"},
			&cli.BoolFlag{Name: "full", Usage: "all traffic through the tunnel"},
			&cli.BoolFlag{Name: "second-factor", Usage: "people give a second factor too, a code of an app"},
			&cli.IntFlag{Name: "people", Usage: "how many people there may be"},
			draftFlag(),
		}, Action: call(p.start),
	}
}

// questions are asked of whoever left a flag out, one line each.
func questions(c *cli.Command, in io.Reader) func(flag, question string) []string {
	lines := bufio.NewScanner(in)
	return func(flag, question string) []string {
		if flag != "" && c.IsSet(flag) {
			if given := c.StringSlice(flag); len(given) > 0 {
				return given
			}
			return []string{c.String(flag)}
		}
		fmt.Fprintf(os.Stderr, "%s\n> ", question)
		if !lines.Scan() {
			return nil
		}
		return strings.Fields(lines.Text())
	}
}

// understood asks until an answer is understood, where somebody is there to ask again; what was answered before stays.
func understood[T any](c *cli.Command, ask func(flag, question string) []string, flag, question string,
	read func([]string) (T, error),
) (T, error) {
	for {
		out, err := read(ask(flag, question))
		if err == nil || flag != "" && c.IsSet(flag) || !term.IsTerminal(int(os.Stdin.Fd())) {
			return out, err
		}
		fmt.Fprintln(os.Stderr, err)
	}
}

// each reads every word of an answer.
func each[T any](read func(word string) (T, error)) func([]string) ([]T, error) {
	return func(words []string) (out []T, err error) {
		for _, w := range words {
			x, err := read(w)
			if err != nil {
				return nil, err
			}
			out = append(out, x)
		}
		return out, nil
	}
}

func answers(c *cli.Command, in io.Reader) (a begin.Answers, err error) {
	ask := questions(c, in)
	a.Site = strings.Join(ask("site", "   What is the site called?"), " ")
	a.Dial = strings.Join(ask("dial", "1. What do people dial: a public name or address?"), "")
	if public, err := netip.ParseAddr(a.Dial); err == nil && !c.IsSet("outside") {
		a.Outside = []netip.Addr{public}
	} else if a.Outside, err = understood(c, ask, "outside",
		"   Which public addresses does the gateway have? Where a router is in front: its own towards that", each(address)); err != nil {
		return a, err
	}
	front, err := understood(c, ask, "in-front", "   Is there another router in front? Its public address (no: leave empty)", each(address))
	if err != nil {
		return a, err
	}
	if len(front) > 0 {
		a.InFront = front[0]
	}
	if a.Networks, err = understood(c, ask, "network",
		"2. Which inside networks are there? NAME=PREFIX, NAME=PREFIX@ROUTER for one behind a router",
		each(network)); err != nil {
		return a, err
	}
	if a.Groups, err = understood(c, ask, "reach", "3. Who may reach what? GROUP=NETWORK:SERVICE, such as staff=office:tcp/443+ping",
		each(group)); err != nil {
		return a, err
	}
	if a.Devices, err = understood(c, ask, "device",
		"4. What do people connect with? "+strings.Join(devices, ", ")+" (not known yet: leave empty)",
		each(device)); err != nil {
		return a, err
	}
	if a.DNS, err = understood(c, ask, "dns", "5. Which inside name servers are there? (none: leave empty)", each(address)); err != nil {
		return a, err
	}
	a.Search = strings.Join(ask("search", "   What is the inside domain, for short names? (none: leave empty)"), "")
	if a.People = c.Int("people"); !c.IsSet("people") {
		if a.People, err = understood(c, ask, "", "   How many people may there be? (200 if left empty)", howMany); err != nil {
			return a, err
		}
	}
	if a.Full = c.Bool("full"); !c.IsSet("full") {
		a.Full = strings.HasPrefix(strings.Join(ask("",
			"6. Shall all traffic of people's devices go through the tunnel, the internet's too? (yes or no)"), ""), "y")
	}
	if a.Factor = c.Bool("second-factor"); !c.IsSet("second-factor") {
		a.Factor = strings.HasPrefix(strings.Join(ask("",
			"7. Shall people give a second factor too, a code of an app? (yes or no)"), ""), "y")
	}
	return a, nil
}

func device(word string) (string, error) {
	if !slices.Contains(devices, word) {
		return "", Failing(ExitUsage, "%q is none of %s", word, strings.Join(devices, ", "))
	}
	return word, nil
}

func howMany(words []string) (int, error) {
	if len(words) == 0 {
		return 0, nil
	}
	n, err := strconv.Atoi(words[0])
	if err != nil || n < 1 {
		return 0, Failing(ExitUsage, "%q is no number of people: write one such as 40", words[0])
	}
	return n, nil
}

func address(word string) (netip.Addr, error) {
	a, err := netip.ParseAddr(word)
	if err != nil {
		return a, Failing(ExitUsage, "%q is no address: expected one such as 192.0.2.10", word)
	}
	return a, nil
}

func network(word string) (n begin.Network, err error) {
	name, rest, ok := strings.Cut(word, "=")
	prefix, router, behind := strings.Cut(rest, "@")
	n.Name = name
	if n.Prefix, err = netip.ParsePrefix(prefix); err != nil || !ok {
		return n, Failing(ExitUsage, "%q is no network: expected NAME=PREFIX, such as office=10.20.0.0/24", word)
	}
	if behind {
		if n.Gateway, err = netip.ParseAddr(router); err != nil {
			return n, Failing(ExitUsage, "%q is no router's address, in %q", router, word)
		}
	}
	return n, nil
}

func group(word string) (begin.Group, error) {
	name, rest, ok := strings.Cut(word, "=")
	reach, services, ok2 := strings.Cut(rest, ":")
	if !ok || !ok2 {
		return begin.Group{}, Failing(ExitUsage, "%q does not say who reaches what: expected GROUP=NETWORK:SERVICE, such as staff=office:tcp/443+ping", word)
	}
	return begin.Group{Name: name, Reach: strings.Split(reach, "+"), Services: strings.Split(services, "+")}, nil
}

func (p *printer) start(ctx context.Context, c *cli.Command, cl *client.Client) error {
	draft, err := draftNow(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	if draft.Version > 0 {
		return Failing(ExitRefused, "there is a draft %[1]s already, and it stays: begin another one with --draft NAME, or give it up first: yl plan discard --draft %[1]s", draft.Name)
	}
	a, err := answers(c, os.Stdin)
	if err != nil {
		return err
	}
	var proposal begin.Proposal
	if err := cl.Do(ctx, "POST", "/begin", a, &proposal); err != nil {
		return err
	}
	certificates, err := client.Get[[]trust.Certificate](ctx, cl, "/certificates")
	if err != nil {
		return err
	}
	have := false
	for _, x := range certificates {
		have = have || x.Name == firstCertificate
	}
	if !have {
		if err := cl.Do(ctx, "POST", "/certificates/"+firstCertificate, map[string]any{"for": []string{a.Dial}}, nil); err != nil {
			return err
		}
		proposal.Reasons = append(proposal.Reasons,
			begin.Reason{
				Path: "tunnels/main/certificate",
				Why:  "made by the service's own authority for " + a.Dial + "; people's devices need the authority's certificate",
			})
	}
	if _, err := save(ctx, cl, draft, proposal.Text); err != nil {
		return err
	}
	var checked plans.Checked
	if err := cl.Do(ctx, "POST", "/check", map[string]string{"text": proposal.Text}, &checked); err != nil {
		return err
	}
	if printed, err := p.value(map[string]any{"draft": draft.Name, "proposal": proposal, "checked": checked}); printed {
		return err
	}
	p.say("draft %s holds a first plan. Why it is as it is:\n", draft.Name)
	for _, r := range proposal.Reasons {
		p.say("%s", r.Path)
		p.indented(4, "%s", r.Why)
	}
	p.say("")
	p.findings(checked, "")
	p.say("\nNext: put people into the groups (yl users add USER --group GROUP), look at it (yl plan show --draft %s), and commit it (yl plan commit --draft %s -m first).", draft.Name, draft.Name)
	return nil
}
