package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yellowlantern/internal/app/commits"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/client"
	"yellowlantern/internal/private"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/underlay"
)

func probeCommand(p *printer) *cli.Command {
	return &cli.Command{
		Name: "probe", Usage: "log in as a remote user from a vantage, and try each expectation through the tunnel",
		Description: "As a real person: --user. As every class of people, each by an identity made for it: --everyone.\nFrom a machine that has no access to the service: --kit.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "user", Usage: "whom to log in as"},
			&cli.BoolFlag{Name: "everyone", Usage: "let the service try every class of people, by identities made for it and gone afterwards"},
			&cli.StringFlag{Name: "kit", Usage: "do what this file says, without a service: yl probe kit writes it"}, signedByFlag(),
			&cli.StringFlag{Name: "vantage", Usage: "place of the site lab to try from (with --everyone several, with commas between, or every); this-network for the network that this machine is on; the first that there is if not given"},
			passwordFile(), keyFlags()[0], keyFlags()[1],
			&cli.StringFlag{Name: "code-file", Usage: "file with the newest code of the second factor, where one is asked for; - for standard input; none: ask"},
			&cli.StringFlag{Name: "report", Usage: "write the report to this file as well, for yl probe hand-in"},
			&cli.StringFlag{Name: "key-log", Usage: "write the keys to this file, for a packet analyser; whoever reads it can read all traffic"},
			&cli.BoolFlag{Name: "keep-to-yourself", Usage: "do not hand the report in to the service"},
		},
		Action: p.probe,
		Commands: append([]*cli.Command{
			{Name: "kit", Usage: "write a file by which a machine far away can probe as a user, who brings the password", ArgsUsage: "FILE", Flags: []cli.Flag{
				&cli.StringFlag{Name: "user", Usage: "whom it is for", Required: true},
				&cli.StringFlag{Name: "group", Usage: "a group of theirs, where a source keeps them that judges logins alone, and they were not here yet"},
			}, Action: call(p.probeKit)},
			{Name: "hand-in", Usage: "hand in a report that was made elsewhere", ArgsUsage: "FILE", Action: call(p.handIn)},
			{Name: "rounds", Usage: "the newest rounds of trying everybody, or one of them", ArgsUsage: "[ROUND]", Flags: []cli.Flag{
				filterFlag(),
				&cli.IntFlag{Name: "limit", Usage: "how many", Value: 20},
			}, Action: call(p.rounds)},
			{Name: "schedule", Usage: "show or say when everybody is tried by itself", Flags: []cli.Flag{
				&cli.DurationFlag{Name: "every", Usage: "how often, 5m to 168h; 0: never"},
				&cli.StringFlag{Name: "vantage", Usage: "from where, with commas between, or every; the first that there is if not given"},
			}, Action: call(p.schedule)},
		}, p.enrolledCommands()...),
	}
}

func (p *printer) probe(ctx context.Context, c *cli.Command) error {
	ways := 0
	for _, w := range []string{"user", "everyone", "kit"} {
		if c.IsSet(w) {
			ways++
		}
	}
	if ways != 1 {
		return Failing(ExitUsage, "say one of --user NAME, --everyone and --kit FILE")
	}
	if path := c.String("kit"); path != "" {
		return p.probeFromKit(ctx, c, path)
	}
	cl, err := connect(c)
	if err != nil {
		return err
	}
	if c.Bool("everyone") {
		return p.everyone(ctx, c, cl)
	}
	order, err := client.Get[probe.Order](ctx, cl, client.Query("/probes/order", "user", c.String("user")))
	if err != nil {
		return err
	}
	u, err := networkOf(ctx, cl, c.String("vantage"))
	if err != nil {
		return err
	}
	return p.run(ctx, c, cl, u, order)
}

// probeFromKit needs no service: what it is to try is in the file, and the person brings the password.
func (p *printer) probeFromKit(ctx context.Context, c *cli.Command, path string) error {
	kit, err := readKit(c, path)
	if err != nil {
		return err
	}
	if !c.IsSet("report") {
		fmt.Fprintln(os.Stderr, "the report is printed only; to keep it for yl probe hand-in, say --report FILE")
	}
	if print, err := kit.Fingerprint(); err == nil { // before a password is asked for: whoever made the kit decides who is believed
		fmt.Fprintf(os.Stderr, "this kit dials %s as %s, and believes the authority with the fingerprint (SHA-256)\n  %s\n%s\n", kit.Dial,
			kit.User, print, signedWords(kit, print))
	}
	return p.run(ctx, c, nil, underlay.Host(), kit.Order)
}

// run probes, prints, and hands the report in where there is a service to hand it to.
func (p *printer) run(ctx context.Context, c *cli.Command, cl *client.Client, u underlay.Underlay, order probe.Order) error {
	defer u.Close()
	var opt probe.Options
	byKey, err := proof(c, order, &opt)
	if err == nil && !byKey {
		opt.Password, err = readPassword(c, "Password of "+order.User)
	}
	if err != nil {
		return err
	}
	if path := c.String("key-log"); path != "" {
		f, err := private.Append(path)
		if err != nil {
			return Failing(ExitUsage, "key log: %w", err)
		}
		defer f.Close()
		fmt.Fprintf(os.Stderr, "KEYS ARE BEING LOGGED to %s: whoever reads it can read all traffic\n", path)
		opt.KeyLog = f
	}
	if opt.Code, err = readCode(c, order); err != nil {
		return err
	}
	progress, done := p.progress("trying")
	opt.Progress = progress
	r, err := probe.Run(ctx, u, order, opt)
	done()
	if err != nil {
		return err
	}
	if path := c.String("report"); path != "" {
		b, err := json.MarshalIndent(r, "", "  ")
		if err == nil {
			err = os.WriteFile(path, append(b, '\n'), 0o600)
		}
		if err != nil {
			return Failing(ExitUsage, "report: %w", err)
		}
	}
	if cl != nil && !c.Bool("keep-to-yourself") {
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

// progress tells on a terminal how far something is; done clears the line.
func (p *printer) progress(what string) (tell func(done, of int), done func()) {
	if p.json || !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil, func() {}
	}
	return func(n, of int) { fmt.Fprintf(os.Stderr, "\r%s %d of %d ", what, n, of) },
		func() { fmt.Fprint(os.Stderr, "\r                                \r") }
}

func (p *printer) probeKit(ctx context.Context, c *cli.Command, cl *client.Client) error {
	path, err := argument(c, "file to write")
	if err != nil {
		return err
	}
	user := c.String("user")
	var kit trials.ProbeKit
	at := client.Query("/users/"+url.PathEscape(user)+"/probe-kit", "group", c.String("group"))
	if err := cl.Do(ctx, "POST", at, nil, &kit); err != nil {
		return err
	}
	if err := os.WriteFile(path, kit.File, 0o600); err != nil {
		return Failing(ExitUsage, "kit: %w", err)
	}
	return p.done("%s is a kit for %s, signed by the authority with the fingerprint (SHA-256)\n  %s\n"+
		"Tell it by another way than the file goes, or put it into %s on the machine: only kits signed by it are taken then.\n"+
		"There: yl dial up %[1]s, or yl probe --kit %[1]s --report report.json, with the user's own password; here: yl probe hand-in report.json",
		path, user, kit.Signer, signerBeside(filepath.Base(path)))
}

func (p *printer) handIn(ctx context.Context, c *cli.Command, cl *client.Client) error {
	path, err := argument(c, "report")
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return Failing(ExitUsage, "report: %w", err)
	}
	defer f.Close()
	var r probe.Report
	if err := json.NewDecoder(io.LimitReader(f, 8<<20)).Decode(&r); err != nil {
		return Failing(ExitUsage, "%s is no report of a probe: %w", path, err)
	}
	if err := cl.Do(ctx, "POST", "/probes", r, nil); err != nil {
		return err
	}
	return p.done("handed in: %s from %s, revision %d, %d trials", r.User, r.Vantage, r.Revision, len(r.Results))
}

// everyone lets the service try every class of people, and waits.
func (p *printer) everyone(ctx context.Context, c *cli.Command, cl *client.Client) error {
	var r trials.Round
	in := map[string]any{"vantages": commas(c.String("vantage"))}
	if err := cl.Do(ctx, "POST", "/rounds", in, &r); err != nil {
		return err
	}
	r, err := p.awaitRound(ctx, cl, r.ID)
	if err != nil {
		return err
	}
	return p.round(r)
}

// awaitTrial waits until a revision that is being tried is kept, or gone back from; then it gives why.
func (p *printer) awaitTrial(ctx context.Context, cl *client.Client, round uint, revision int) (string, error) {
	if _, err := p.awaitRound(ctx, cl, round); err != nil {
		return "", err
	}
	for {
		t, err := client.Get[commits.Trial](ctx, cl, "/trial")
		if err != nil {
			return "", err
		}
		if t.Revision != revision {
			break
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	newest, err := client.Get[plans.Revision](ctx, cl, "/revisions/0")
	if err != nil || newest.Number == revision {
		return "", err
	}
	return fmt.Sprintf("revision %d: %s", newest.Number, newest.Message), nil
}

func commas(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

func (p *printer) awaitRound(ctx context.Context, cl *client.Client, id uint) (trials.Round, error) {
	tell, done := p.progress("logins:")
	defer done()
	for {
		r, err := client.Get[trials.Round](ctx, cl, fmt.Sprintf("/rounds/%d", id))
		if err != nil || r.State != trials.RoundRuns {
			return r, err
		}
		if tell != nil {
			tell(r.Done, r.Of)
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// round prints one round and gives the verdict.
func (p *printer) round(r trials.Round) error {
	verdict := error(nil)
	if !r.OK {
		verdict = Failing(ExitNot, "round %d: %s", r.ID, r.Words)
	}
	if printed, err := p.value(r); printed {
		return firstOf(err, verdict)
	}
	p.say("round %d of revision %d, from %s, by %s", r.ID, r.Revision, strings.Join(r.Vantages, ", "), r.By)
	p.roundTable(r)
	for _, c := range causesOf(r) {
		p.say("→ %s", c)
	}
	p.say("%s", r.Words)
	return verdict
}

// roundTable is people by vantage: how many trials were as expected, of those that were not.
func (p *printer) roundTable(r trials.Round) {
	head, at := []string{"people"}, map[string]int{}
	for _, v := range r.Vantages {
		head = append(head, v)
		at[v] = len(head) - 1
	}
	var rows [][]string
	row := map[string][]string{}
	for _, x := range r.Results {
		if row[x.Class] == nil {
			row[x.Class] = make([]string, len(head))
			row[x.Class][0] = x.Class
			rows = append(rows, row[x.Class])
		}
		cell := fmt.Sprintf("✓ %d", x.Tried)
		switch {
		case x.NotTried:
			cell = "? not judged"
		case !x.Connected && !x.OK:
			cell = "✗ not in"
		case !x.Connected:
			cell = "✓ kept out"
		case !x.OK:
			cell = fmt.Sprintf("✗ %d of %d", x.Tried-x.Missed, x.Tried)
			if x.NotJudged > 0 {
				cell += fmt.Sprintf(", %d not judged", x.NotJudged)
			}
		}
		if x.Over == "TCP" {
			cell += " (TCP)"
		}
		if k, known := at[x.Vantage]; known {
			row[x.Class][k] = cell
		}
	}
	p.table(head, rows)
}

// causesOf tells each cause once, with the people and places that it is seen by.
func causesOf(r trials.Round) (out []string) {
	var order []string
	who := map[string][]string{}
	for _, x := range r.Results {
		if x.OK {
			continue
		}
		causes := x.Causes
		if len(causes) == 0 {
			causes = []string{x.Login}
		}
		for _, c := range causes {
			if who[c] == nil {
				order = append(order, c)
			}
			who[c] = append(who[c], x.Class+" from "+x.Vantage)
		}
	}
	for _, c := range order {
		out = append(out, strings.Join(who[c], ", ")+": "+c)
	}
	return out
}

func (p *printer) rounds(ctx context.Context, c *cli.Command, cl *client.Client) error {
	if c.Args().First() != "" {
		id, err := strconv.ParseUint(c.Args().First(), 10, 32)
		if err != nil {
			return Failing(ExitUsage, "%q is no round: yl probe rounds lists them", c.Args().First())
		}
		r, err := client.Get[trials.Round](ctx, cl, fmt.Sprintf("/rounds/%d", id))
		if err != nil {
			return err
		}
		return p.round(r)
	}
	rs, err := client.Get[[]trials.Round](ctx, cl, client.Query("/rounds", "limit", strconv.Itoa(int(c.Int("limit")))))
	if err != nil {
		return err
	}
	var rows [][]string
	kept := []trials.Round{}
	for _, r := range rs {
		mark := map[bool]string{true: "✓", false: "✗"}[r.OK]
		if r.State == trials.RoundRuns {
			mark = "…"
		}
		row := []string{
			mark, strconv.Itoa(int(r.ID)), local(r.At), strconv.Itoa(r.Revision), strings.Join(r.Vantages, ", "), r.By,
			cmp.Or(r.Words, fmt.Sprintf("%d of %d logins", r.Done, r.Of)),
		}
		if matches(c.String("filter"), row...) {
			rows, kept = append(rows, row), append(kept, r)
		}
	}
	if printed, err := p.value(kept); printed {
		return err
	}
	p.table([]string{"", "round", "begun", "revision", "from", "by", "seen"}, rows)
	return nil
}

func (p *printer) schedule(ctx context.Context, c *cli.Command, cl *client.Client) error {
	var out trials.Schedule
	if c.IsSet("every") {
		in := trials.Schedule{Every: int(c.Duration("every").Seconds()), Vantages: commas(c.String("vantage"))}
		if err := cl.Do(ctx, "PUT", "/schedule", in, &out); err != nil {
			return err
		}
	} else {
		var err error
		if out, err = client.Get[trials.Schedule](ctx, cl, "/schedule"); err != nil {
			return err
		}
	}
	if printed, err := p.value(out); printed {
		return err
	}
	if out.Every == 0 {
		p.say("nobody is tried by itself; yl probe schedule --every 6h --vantage every changes that")
		return nil
	}
	p.say("everybody is tried every %s from %s; next at %s", time.Duration(out.Every)*time.Second, strings.Join(out.Vantages, ", "), local(out.Next))
	return nil
}

func networkOf(ctx context.Context, cl *client.Client, name string) (underlay.Underlay, error) {
	if name == trials.ThisNetwork {
		return underlay.Host(), nil
	}
	vs, err := client.Get[[]trials.Vantage](ctx, cl, "/vantages")
	if err != nil {
		return nil, err
	}
	vs = slices.DeleteFunc(vs, func(v trials.Vantage) bool {
		if v.Enrolled && v.Name == name {
			err = Failing(ExitUsage, "vantage %s is an enrolled probe, which tries with --everyone: a person's password stays here", name)
		}
		return v.Enrolled
	})
	if err != nil {
		return nil, err
	}
	if name == "" && len(vs) == 0 { // no site lab: the service is on a real host
		return underlay.Host(), nil
	}
	known := []string{trials.ThisNetwork}
	for _, v := range vs {
		if v.Name == name || name == "" {
			return underlay.Vantage(ctx, v.Link)
		}
		known = append(known, v.Name)
	}
	return nil, Failing(ExitUsage, "there is no vantage %q; there are %s", name, strings.Join(known, ", "))
}

func probeVerdict(r probe.Report) error {
	if !r.Connected && !r.OK {
		return Failing(ExitNot, "%s could not log in: nothing was tried", r.User)
	}
	if !r.OK {
		return Failing(ExitNot, "%d of %d trials did not see what was expected; %d differ from what was computed", r.Missed, len(r.Results),
			r.Differs)
	}
	return nil
}

// Report prints what a probe saw.
func (p *printer) Report(r probe.Report) {
	who := r.User
	if r.Tester {
		who = "an identity made for it"
	}
	p.say("probe as %s (%s) from %s, revision %d", who, r.Class, r.Vantage, r.Revision)
	switch {
	case r.AtGateway:
		p.say("! it ran on the gateway host, and sent everything by the tunnel: that proves nothing of the way in from outside")
	case r.Inside:
		p.say("! it ran on the gateway's own network: that proves nothing of the way in from outside")
	}
	p.say("login: %s", r.Login)
	if g := r.Given; g != nil {
		p.say("given: address %s; name servers %s; domains %s; routes %s", addrs(g.Addresses), addrs(g.DNS), orDash(strings.Join(g.Domains, ", ")), strings.Join(g.Routes, ", "))
	}
	var rows [][]string
	edges := 0
	for _, x := range r.Results {
		if x.Untried {
			continue
		}
		if x.Edge {
			if edges++; x.OK {
				continue
			}
		}
		mark, want := "✓", "reach"
		if !x.Want {
			want = "keep out"
		}
		if x.Edge {
			want = map[bool]string{true: "let through", false: "refused"}[x.Computed]
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
	if r.Tried() == 0 && len(r.Results) > 0 {
		p.say("✗ nothing was tried: %d trials need the login that failed", len(r.Results))
	} else {
		p.table([]string{"", "destination", "address", "service", "expected", "before", "seen through the tunnel"}, rows)
	}
	agree := "computed and tried agree"
	if r.Differs > 0 {
		agree = fmt.Sprintf("%d differ from what was computed", r.Differs)
	}
	for _, x := range r.Checks {
		p.say("%s %s: %s", map[bool]string{true: "✓", false: "✗"}[x.OK], x.Name, x.Words)
	}
	if edges > 0 {
		p.say("%d of them are boundary packets of what is computed, at which nobody need listen; those that are as computed are left out above", edges)
	}
	if r.Tried() > 0 {
		p.say("%d of %d as expected; %s", len(r.Results)-r.Missed, len(r.Results), agree)
	}
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
