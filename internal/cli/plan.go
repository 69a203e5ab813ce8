package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/commits"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/reach"
)

const defaultDraft = "draft"

func draftFlag() cli.Flag {
	return &cli.StringFlag{Name: "draft", Usage: "name of the draft", Value: defaultDraft}
}

func planCommands(p *printer) *cli.Command {
	return &cli.Command{Name: "plan", Usage: "show, load, check, compare, commit and restore plans", Commands: []*cli.Command{
		{Name: "show", Usage: "print a plan", Flags: []cli.Flag{
			&cli.IntFlag{Name: "revision", Usage: "which one; 0 is the newest"},
			&cli.StringFlag{Name: "draft", Usage: "a draft in place of a revision"},
		}, Action: call(p.planShow)},
		{Name: "load", Usage: "read a plan from a file (- for standard input) into a draft, and check it", ArgsUsage: "FILE", Flags: []cli.Flag{draftFlag()}, Action: call(p.planLoad)},
		{Name: "list", Usage: "list the objects of one kind, such as rules or pools, or show one", ArgsUsage: "KIND or KIND/NAME", Flags: []cli.Flag{draftFlag(), filterFlag()}, Action: call(p.planList)},
		{Name: "set", Usage: "give a field of a draft a value", ArgsUsage: "SETTING VALUE", Flags: []cli.Flag{draftFlag()}, Action: call(p.planEdit("set"))},
		{Name: "add", Usage: "put an object or item at the end of a list of a draft", ArgsUsage: "LIST VALUE", Flags: []cli.Flag{draftFlag()}, Action: call(p.planEdit("add"))},
		{Name: "remove", Usage: "take an object, item or field out of a draft", ArgsUsage: "SETTING", Flags: []cli.Flag{draftFlag()}, Action: call(p.planEdit("remove"))},
		{
			Name: "put", Usage: "make objects what is given, as --json lists them; what does not differ stays as it is written", ArgsUsage: "KIND [OBJECT]", Description: "OBJECT is JSON or YAML on one line; without it, an object or a list of them is read from standard input.",
			Flags: []cli.Flag{draftFlag()}, Action: call(p.planPut),
		},
		{Name: "rename", Usage: "give an object another name, wherever it is named", ArgsUsage: "KIND/NAME NEW", Flags: []cli.Flag{draftFlag()}, Action: call(p.planEdit("rename"))},
		{Name: "move", Usage: "put an object before another one of its list, or at the end", ArgsUsage: "KIND/NAME [BEFORE]", Flags: []cli.Flag{draftFlag()}, Action: call(p.planMove)},
		{Name: "uses", Usage: "what names an object", ArgsUsage: "KIND/NAME", Flags: []cli.Flag{draftFlag()}, Action: call(p.planUses)},
		{Name: "pin", Usage: "say of what rules permit that it is meant: add an expectation for each, or for all", ArgsUsage: "[RULE…]", Flags: []cli.Flag{draftFlag()}, Action: call(p.planPin)},
		{Name: "mend", Usage: "apply the fix of a finding on a draft", ArgsUsage: "CODE@SETTING", Flags: []cli.Flag{draftFlag()}, Action: call(p.planMend)},
		{Name: "drafts", Usage: "list the drafts", Action: call(p.planDrafts)},
		{Name: "discard", Usage: "forget a draft", Flags: []cli.Flag{draftFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			if err := cl.Do(ctx, "DELETE", "/drafts/"+c.String("draft"), nil, nil); err != nil {
				return err
			}
			return p.done("draft %s is gone", c.String("draft"))
		})},
		{Name: "check", Usage: "make all findings on a draft, or on a file without keeping it", ArgsUsage: "[FILE]", Flags: []cli.Flag{draftFlag(), severityFlag(), filterFlag()}, Action: call(p.planCheck)},
		{Name: "difference", Usage: "what turns one plan into another, and who gains and loses reach", Flags: []cli.Flag{
			&cli.IntFlag{Name: "from", Usage: "revision; 0 is the newest"},
			&cli.IntFlag{Name: "to", Usage: "revision; 0 is the newest"},
			&cli.StringFlag{Name: "draft", Usage: "compare with this draft"},
		}, Action: call(p.planDifference)},
		{Name: "review", Usage: "findings on a draft, and what a commit would do", Flags: []cli.Flag{draftFlag()}, Action: call(p.planReview)},
		{Name: "rebase", Usage: "bring a draft onto the newest revision", Flags: []cli.Flag{
			draftFlag(),
			&cli.StringSliceFlag{Name: "take", Usage: "whose lines stand where both changed the same: ours (the draft's) or theirs; once for each conflict in turn"},
		}, Action: call(p.planRebase)},
		{Name: "commit", Usage: "make a draft the newest revision, which runs at once", Flags: []cli.Flag{
			draftFlag(),
			&cli.StringFlag{Name: "message", Aliases: []string{"m"}, Usage: "why", Required: true},
			&cli.StringSliceFlag{Name: "accept", Usage: "accept a warning, as code@path; all of them, by: all"},
			&cli.StringFlag{Name: "because", Usage: "why the warnings are accepted; it stays with the revision"},
			&cli.BoolFlag{Name: "trial", Usage: "try it right after, as every class of people, and go back by itself if an expectation fails that held before"},
			&cli.StringFlag{Name: "vantage", Usage: "with --trial: from where, with commas between, or every; the first that there is if not given"},
			&cli.BoolFlag{Name: "allow-partial-trial", Usage: "with --trial: also where it cannot judge all that the change touches; the revision keeps that"},
			&cli.DurationFlag{Name: "for", Usage: "go back by itself after this time, such as 5m, unless yl plan keep follows"},
		}, Action: call(p.planCommit)},
		{Name: "approve", Usage: "approve a draft as it is, for another administrator to commit, where the plan that runs demands that", Flags: []cli.Flag{draftFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			var a commits.Approvals
			if err := cl.Do(ctx, "POST", "/drafts/"+c.String("draft")+"/approvals", map[string]any{}, &a); err != nil {
				return err
			}
			return p.done("draft %s is approved by %s", c.String("draft"), strings.Join(a.By, ", "))
		})},
		{Name: "keep", Usage: "keep the revision that is on trial", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			var r plans.Revision
			if err := cl.Do(ctx, "POST", "/revisions/0/keep", nil, &r); err != nil {
				return err
			}
			return p.done("revision %d is kept", r.Number)
		})},
		{Name: "size", Usage: "how large a plan is for whoever works it out, and what that will take, before it is", Flags: []cli.Flag{
			&cli.StringFlag{Name: "draft", Usage: "a draft in place of the running plan"},
		}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			s, err := client.Get[compiled.Size](ctx, cl, client.Query("/plan/size", "draft", c.String("draft")))
			if err != nil {
				return err
			}
			if printed, err := p.value(s); printed {
				return err
			}
			p.say("%s", s.Words)
			return nil
		})},
		{Name: "history", Usage: "list the revisions", Flags: []cli.Flag{filterFlag()}, Action: call(p.planHistory)},
		{Name: "restore", Usage: "put an earlier revision into a draft, to be committed again", ArgsUsage: "REVISION", Flags: []cli.Flag{draftFlag()}, Action: call(p.planRestore)},
	}}
}

func filterFlag() cli.Flag {
	return &cli.StringFlag{Name: "filter", Usage: "only lines with this text"}
}

func severityFlag() cli.Flag {
	return &cli.StringFlag{Name: "severity", Usage: "only stop, warn or note"}
}

func matches(filter string, cells ...string) bool {
	return filter == "" || strings.Contains(strings.ToLower(strings.Join(cells, " ")), strings.ToLower(filter))
}

func (p *printer) planShow(ctx context.Context, c *cli.Command, cl *client.Client) error {
	if name := c.String("draft"); name != "" {
		d, err := client.Get[plans.Draft](ctx, cl, "/drafts/"+name)
		if err != nil {
			return err
		}
		if printed, err := p.value(d); printed {
			return err
		}
		_, err = io.WriteString(p.out, d.Text)
		return err
	}
	r, err := client.Get[plans.Revision](ctx, cl, fmt.Sprintf("/revisions/%d", c.Int("revision")))
	if err != nil {
		return err
	}
	if printed, err := p.value(r); printed {
		return err
	}
	_, err = io.WriteString(p.out, r.Text)
	return err
}

func readFile(path string) (string, error) {
	var b []byte
	var err error
	if path == "-" {
		b, err = io.ReadAll(os.Stdin)
	} else {
		b, err = os.ReadFile(path)
	}
	if err != nil {
		return "", Failing(ExitUsage, "%w", err)
	}
	return string(b), nil
}

// draftNow gives a draft as it is now; version 0: there is none of that name.
func draftNow(ctx context.Context, cl *client.Client, name string) (plans.Draft, error) {
	drafts, err := client.Get[[]plans.Draft](ctx, cl, "/drafts")
	for _, d := range drafts {
		if d.Name == name {
			return d, nil
		}
	}
	return plans.Draft{Name: name}, err
}

// put writes text into a draft, whatever is in it now.
func put(ctx context.Context, cl *client.Client, name, text string) (plans.Draft, error) {
	d, err := draftNow(ctx, cl, name)
	if err != nil {
		return d, err
	}
	return save(ctx, cl, d, text)
}

// save gives a draft a new text; if it is another version by now it is refused.
func save(ctx context.Context, cl *client.Client, d plans.Draft, text string) (out plans.Draft, err error) {
	err = cl.Do(ctx, "PUT", "/drafts/"+d.Name, map[string]any{"text": text, "version": d.Version}, &out)
	return out, err
}

func (p *printer) planLoad(ctx context.Context, c *cli.Command, cl *client.Client) error {
	path, err := argument(c, "file")
	if err != nil {
		return err
	}
	text, err := readFile(path)
	if err != nil {
		return err
	}
	d, err := put(ctx, cl, c.String("draft"), text)
	if err != nil {
		return err
	}
	var checked plans.Checked
	if err := cl.Do(ctx, "POST", "/check", map[string]string{"text": text}, &checked); err != nil {
		return err
	}
	if printed, err := p.value(map[string]any{"draft": d, "checked": checked}); printed {
		return firstOf(err, verdict(checked))
	}
	p.say("draft %s holds %s, based on revision %d", d.Name, path, d.Base)
	p.findings(checked, "")
	return verdict(checked)
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func verdict(c plans.Checked) error {
	if c.Stops > 0 {
		return Failing(ExitNot, "the plan cannot be committed: mend what is marked stop")
	}
	return nil
}

func (p *printer) findings(c plans.Checked, severity string) {
	for _, f := range c.Faults {
		p.say("✗ line %d, column %d  %s", f.Line, f.Column, f.Path)
		p.indented(4, "%s", f.Problem)
		if f.Expected != "" {
			p.indented(4, "→ expected %s", f.Expected)
		}
	}
	p.findingList(c.Findings, severity)
	if c.Left > 0 {
		p.say("… and %d more findings: fix these first", c.Left)
	}
	p.say("%d stop, %d warn, %d note", c.Stops, c.Warnings, c.Notes)
}

func (p *printer) findingList(fs []check.Finding, severity string) {
	mark := map[check.Severity]string{check.Stop: "✗ stop", check.Warn: "! warn", check.Note: "· note"}
	for _, f := range fs {
		if severity != "" && string(f.Severity) != severity {
			continue
		}
		p.say("%s  line %d  %s", mark[f.Severity], f.Line, f.ID())
		p.indented(8, "%s", f.Problem)
		p.indented(8, "→ %s", f.Fix)
		if len(f.Mend) > 0 {
			p.indented(8, "  yl plan mend %s", f.ID())
		}
	}
}

func (p *printer) planCheck(ctx context.Context, c *cli.Command, cl *client.Client) error {
	text := ""
	if path := c.Args().First(); path != "" {
		var err error
		if text, err = readFile(path); err != nil {
			return err
		}
	} else {
		d, err := client.Get[plans.Draft](ctx, cl, "/drafts/"+c.String("draft"))
		if err != nil {
			return err
		}
		text = d.Text
	}
	var checked plans.Checked
	if err := cl.Do(ctx, "POST", "/check", map[string]string{"text": text}, &checked); err != nil {
		return err
	}
	shown := checked
	shown.Findings = []check.Finding{}
	for _, f := range checked.Findings {
		if severity := c.String("severity"); (severity == "" || string(f.Severity) == severity) &&
			matches(c.String("filter"), f.ID(), f.Problem, f.Fix) {
			shown.Findings = append(shown.Findings, f)
		}
	}
	if printed, err := p.value(shown); printed {
		return firstOf(err, verdict(checked))
	}
	p.findings(shown, "")
	return verdict(checked)
}

func (p *printer) planDrafts(ctx context.Context, c *cli.Command, cl *client.Client) error {
	ds, err := client.Get[[]plans.Draft](ctx, cl, "/drafts")
	if err != nil {
		return err
	}
	if printed, err := p.value(ds); printed {
		return err
	}
	var rows [][]string
	for _, d := range ds {
		state := "up to date"
		if d.Behind {
			state = "behind: rebase it"
		}
		rows = append(rows, []string{d.Name, d.Owner, strconv.Itoa(d.Base), local(d.At), state})
	}
	p.table([]string{"draft", "owner", "based on", "changed", "state"}, rows)
	return nil
}

func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func (p *printer) planDifference(ctx context.Context, c *cli.Command, cl *client.Client) error {
	path := client.Query("/difference", "from", strconv.Itoa(c.Int("from")), "to", strconv.Itoa(c.Int("to")), "draft", c.String("draft"))
	type answer struct {
		Changes []struct {
			Path   string `json:"path"`
			Kind   string `json:"kind"`
			Before string `json:"before"`
			After  string `json:"after"`
		} `json:"changes"`
		Reach []reach.Change `json:"reach"`
	}
	a, err := client.Get[answer](ctx, cl, path)
	if err != nil {
		return err
	}
	if printed, err := p.value(a); printed {
		return err
	}
	var rows [][]string
	for _, ch := range a.Changes {
		rows = append(rows, []string{ch.Kind, ch.Path, ch.Before, ch.After})
	}
	p.table([]string{"what", "setting", "before", "after"}, rows)
	p.reachChanges(a.Reach)
	return nil
}

func (p *printer) reachChanges(changes []reach.Change) {
	if len(changes) == 0 {
		p.say("nobody gains or loses reach")
		return
	}
	for _, c := range changes {
		p.say("%s (%s)", c.Class, strings.Join(c.Users, ", "))
		if c.Shut {
			p.indented(4, "✗ loses all reach")
		}
		for _, l := range c.Gains {
			p.indented(4, "+ gains %s", l)
		}
		for _, l := range c.Loses {
			p.indented(4, "- loses %s", l)
		}
		if c.Before != c.After {
			p.indented(4, "passage: %s → %s", orNone(c.Before), orNone(c.After))
		}
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (p *printer) planReview(ctx context.Context, c *cli.Command, cl *client.Client) error {
	r, err := client.Get[plans.Review](ctx, cl, "/drafts/"+c.String("draft")+"/review")
	if err != nil {
		return err
	}
	if printed, err := p.value(r); printed {
		return firstOf(err, verdict(r.Checked))
	}
	p.review(r)
	return verdict(r.Checked)
}

func (p *printer) review(r plans.Review) {
	p.findings(r.Checked, "")
	for _, a := range r.Accepted {
		p.say("✓ accepted with revision %d, and nothing of it changed since: %s (%s)", a.Revision, a.Finding, a.Reason)
	}
	if len(r.First) > 0 {
		p.comesIn(r.First)
		return
	}
	p.say("\nWhat changes in the plan:")
	for _, ch := range r.Changes {
		p.indented(4, "%s", ch)
	}
	if len(r.Changes) == 0 {
		p.indented(4, "nothing")
	}
	p.say("\nWhat changes for whom:")
	p.reachChanges(r.Reach)
	if len(r.Ends) > 0 {
		p.say("Sessions that end, because their device must be told anew: %s", strings.Join(r.Ends, ", "))
	}
	p.kitChanges(r.Kits)
	if len(r.Unjudged) > 0 {
		p.say("\nWhat a trial cannot judge of it (--trial wants --allow-partial-trial):")
		for _, u := range r.Unjudged {
			p.indented(4, "%s for %s: %s", u.Expectation, strings.Join(u.Classes, ", "), u.Why)
		}
	}
}

// mostKits bounds the kits that are named one by one.
const mostKits = 12

// kitChanges says whose kits stop working, and whose are only behind.
func (p *printer) kitChanges(all []plans.KitChange) {
	behind := slices.IndexFunc(all, func(k plans.KitChange) bool { return !k.Stops })
	if behind < 0 {
		behind = len(all)
	}
	if behind > 0 {
		p.say("\nKits that stop working (hand out new ones: yl users kit USER --platform PLATFORM):")
		for _, k := range all[:min(behind, mostKits)] {
			p.indented(4, "%s, %s: %s", k.User, k.Platform, k.Why)
		}
		if behind > mostKits {
			p.indented(4, "and %d more (--json lists all)", behind-mostKits)
		}
	}
	if n := len(all) - behind; n > 0 {
		p.say("\nKits that go on working with older settings: %d, such as that of %s for %s (%s)", n, all[behind].User, all[behind].Platform,
			all[behind].Why)
	}
}

// comesIn sums a first plan up: a list of everything in it would say less.
func (p *printer) comesIn(all []plans.ComesIn) {
	p.say("\nThis is the first plan. With it:")
	for _, c := range all {
		p.say("\n  %s come in by tunnel %s (passage %s)", c.Group, c.By, c.Passage)
		p.indented(4, "addresses: %s", c.Addresses)
		p.indented(4, "names by: %s", c.Names)
		p.indented(4, "into the tunnel: %s", orNone(c.Routes))
		if len(c.Reaches) == 0 {
			p.indented(4, "they reach nothing: no rule permits them anything")
		}
		for _, l := range c.Reaches {
			p.indented(4, "+ reach %s", l)
		}
	}
	if len(all) == 0 {
		p.indented(4, "nobody comes in: no passage admits a group")
	}
}

func (p *printer) planRebase(ctx context.Context, c *cli.Command, cl *client.Client) error {
	var out struct {
		Draft     plans.Draft `json:"draft"`
		Conflicts []struct {
			Line               int `json:"line"`
			Base, Ours, Theirs string
		} `json:"conflicts"`
	}
	if err := cl.Do(ctx, "POST", "/drafts/"+c.String("draft")+"/rebase",
		map[string]any{"take": append([]string{}, c.StringSlice("take")...)}, &out); err != nil {
		return err
	}
	if printed, err := p.value(out); printed {
		return err
	}
	for _, k := range out.Conflicts {
		p.say("line %d was changed by both:", k.Line)
		p.indented(4, "before: %s", k.Base)
		p.indented(4, "this draft: %s", k.Ours)
		p.indented(4, "committed: %s", k.Theirs)
	}
	if len(out.Conflicts) > 0 {
		return Failing(ExitNot, "not rebased: say whose lines stand, in turn: yl plan rebase --draft %s%s", c.String("draft"),
			strings.Repeat(" --take ours|theirs", len(out.Conflicts)))
	}
	p.say("draft %s is based on revision %d", out.Draft.Name, out.Draft.Base)
	return nil
}

// trialTime is how long a commit on trial may take: what runs is tried before, where it was not yet, and the new revision after.
const trialTime = 25 * time.Minute

func (p *printer) planCommit(ctx context.Context, c *cli.Command, cl *client.Client) error {
	var out struct {
		Revision int          `json:"revision"`
		Ended    []string     `json:"ended"`
		Round    uint         `json:"round,omitempty"`
		Back     string       `json:"back,omitempty"`
		Review   plans.Review `json:"review"`
	}
	seconds := int(c.Duration("for").Round(time.Second) / time.Second)
	if c.IsSet("for") && seconds < 1 {
		return Failing(ExitUsage, "--for takes a time of a second or more, such as 5m")
	}
	accept, err := accepted(ctx, c, cl)
	if err != nil {
		return err
	}
	in := map[string]any{"message": c.String("message"), "accept": accept, "for": seconds}
	if c.Bool("trial") {
		if seconds > 0 {
			return Failing(ExitUsage, "--trial decides by itself whether to go back: leave --for out")
		}
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, trialTime)
		defer stop()
		in["try"], in["allow-partial-trial"] = map[string]any{"vantages": commas(c.String("vantage"))}, c.Bool("allow-partial-trial")
	}
	if err := cl.Do(ctx, "POST", "/drafts/"+c.String("draft")+"/commit", in, &out); err != nil {
		return err
	}
	var verdict error
	if out.Round > 0 {
		if out.Back, err = p.awaitTrial(ctx, cl, out.Round, out.Revision); err != nil {
			return err
		}
		if out.Back != "" {
			verdict = Failing(ExitNot, "%s", out.Back)
		}
	}
	if printed, err := p.value(out); printed {
		return firstOf(err, verdict)
	}
	if verdict != nil {
		return verdict
	}
	p.say("revision %d runs", out.Revision)
	if out.Round > 0 {
		p.say("it was tried by round %d, and is kept: nothing fails that held before", out.Round)
	}
	if seconds > 0 {
		p.say("it goes back by itself at %s, unless you run: yl plan keep", local(time.Now().Add(c.Duration("for"))))
	}
	p.reachChanges(out.Review.Reach)
	if len(out.Ended) > 0 {
		p.say("sessions ended: %s", strings.Join(out.Ended, ", "))
	}
	return nil
}

// accepted is the warnings that are accepted, each by its name and with the reason.
func accepted(ctx context.Context, c *cli.Command, cl *client.Client) ([]plans.Acceptance, error) {
	out, names := []plans.Acceptance{}, c.StringSlice("accept")
	if len(names) == 0 {
		return out, nil
	}
	if strings.TrimSpace(c.String("because")) == "" {
		return nil, Failing(ExitUsage, "say why the warnings are accepted: --because 'the reason'; it stays with the revision")
	}
	if slices.Contains(names, "all") {
		review, err := client.Get[plans.Review](ctx, cl, "/drafts/"+c.String("draft")+"/review")
		if err != nil {
			return nil, err
		}
		names = nil
		for _, f := range review.Findings {
			before := slices.ContainsFunc(review.Accepted, func(a plans.Acceptance) bool { return a.Finding == f.ID() })
			if f.Severity == check.Warn && !before {
				names = append(names, f.ID())
			}
		}
		if review.Left > 0 {
			names = append(names, plans.AllFindings)
		}
	}
	for _, n := range names {
		out = append(out, plans.Acceptance{Finding: n, Reason: c.String("because")})
	}
	return out, nil
}

func (p *printer) planHistory(ctx context.Context, c *cli.Command, cl *client.Client) error {
	rs, err := client.Get[[]plans.Revision](ctx, cl, "/revisions")
	if err != nil {
		return err
	}
	if printed, err := p.value(rs); printed {
		return err
	}
	var rows [][]string
	for _, r := range rs {
		row := []string{strconv.Itoa(r.Number), local(r.At), r.Author, r.Message, acceptances(r.Accepted)}
		if matches(c.String("filter"), row...) {
			rows = append(rows, row)
		}
	}
	p.table([]string{"revision", "committed", "by", "message", "accepted"}, rows)
	return nil
}

func acceptances(as []plans.Acceptance) string {
	out := make([]string, len(as))
	for i, a := range as {
		out[i] = a.Finding
		if a.Reason != "" {
			out[i] += ": " + a.Reason
		}
	}
	return strings.Join(out, "; ")
}

func (p *printer) planRestore(ctx context.Context, c *cli.Command, cl *client.Client) error {
	word, err := argument(c, "revision")
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(word)
	if err != nil {
		return Failing(ExitUsage, "%q is no revision: yl plan history lists them", word)
	}
	r, err := client.Get[plans.Revision](ctx, cl, fmt.Sprintf("/revisions/%d", number))
	if err != nil {
		return err
	}
	d, err := put(ctx, cl, c.String("draft"), r.Text)
	if err != nil {
		return err
	}
	return p.done("draft %s holds revision %d; look at it with yl plan review --draft %s, then commit it", d.Name, number, d.Name)
}
