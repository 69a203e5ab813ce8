package proofs

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/report"
)

// Report gathers what is known of the newest revision.
func (s *Service) Report(ctx context.Context) (*report.Report, error) {
	w, number, err := s.Plans.Whole(ctx, "")
	if err != nil {
		return nil, err
	}
	known, err := w.Known(ctx)
	if err != nil {
		return nil, refusal.Mistaken(err)
	}
	rec, err := s.Store.Revision(ctx, number)
	if err != nil {
		return nil, err
	}
	rev, m := plans.RevisionOf(rec), known.Model
	checked, err := s.Plans.Check(ctx, rec.Text)
	if err != nil {
		return nil, err
	}
	r := &report.Report{
		Site: m.Plan.Name, At: time.Now().UTC(), By: actor.Name(ctx), Revision: number, Author: rev.Author, Message: rev.Message, Committed: rev.At,
		Accepted: []report.Accepted{}, Findings: []check.Finding{}, Proof: known.Proof.Results, Trials: []report.Trials{}, Untried: []string{}, HandedIn: []report.Trials{}, Troubles: s.Running.Troubles(),
	}
	if r.Surplus, err = w.Surplus(ctx); err != nil {
		return nil, err
	}
	for _, a := range rev.Accepted {
		r.Accepted = append(r.Accepted, report.Accepted{Finding: a.Finding, Problem: a.Problem, Reason: a.Reason})
	}
	for _, f := range checked.Findings {
		if f.Severity != check.Note {
			r.Findings = append(r.Findings, f)
		}
	}
	if err := s.addTrials(ctx, r, known, number); err != nil {
		return nil, err
	}
	r.Judge()
	return r, nil
}

// addTrials adds the newest probe of each class from each vantage, and names the classes of whom nobody tried.
func (s *Service) addTrials(ctx context.Context, r *report.Report, known *reach.Known, number int) error {
	probes, err := s.Trials.Newest(ctx, number)
	if err != nil {
		return err
	}
	slices.SortStableFunc(probes, func(a, b probe.Report) int { return strings.Compare(a.Vantage, b.Vantage) })
	wayIn, tried := false, false
	for _, c := range known.Classes {
		seen, counts := map[string]bool{}, false
		for _, p := range probes { // of each vantage the newest first
			if p.Class == c.Name() && !seen[p.Vantage] {
				seen[p.Vantage] = true
				counts, wayIn = counts || throughTheTunnel(p), wayIn || !p.Inside
				r.Trials = append(r.Trials, trialsOf(p))
			}
		}
		switch {
		case c.Passage == nil:
		case !counts:
			r.Untried = append(r.Untried, c.Name())
		default:
			tried = true
			r.Untried = append(r.Untried, untried(known.Model, c, probes)...)
		}
	}
	if tried && !wayIn {
		r.Untried = append(r.Untried, "the way in from outside: every trial was made on the gateway host")
	}
	handed, err := s.Trials.HandedIn(ctx, number)
	for _, p := range handed {
		r.HandedIn = append(r.HandedIn, trialsOf(p))
	}
	return err
}

// throughTheTunnel tells whether a probe says something of what is behind the tunnel: one from the gateway's own network does not, but on
// the gateway host everything was sent by the tunnel.
func throughTheTunnel(p probe.Report) bool { return !p.Inside || p.AtGateway }

// untried says what of the expectations about a class nobody of it tried: each destination that they name.
func untried(m *site.Model, c reach.Class, probes []probe.Report) (out []string) {
	for i := range m.Plan.Expectations {
		e := &m.Plan.Expectations[i]
		if e.Inward() || e.Must == plan.NothingElse || !reach.Concerns(e, c) {
			continue
		}
		services := m.Names.ServiceSet(e.Services)
		for _, word := range e.To {
			space, _ := m.Names.Destination(word)
			if !slices.ContainsFunc(probes,
				func(p probe.Report) bool {
					return p.Class == c.Name() && throughTheTunnel(p) && triedThere(p, space, services)
				}) {
				out = append(out, fmt.Sprintf("%s: %s (%s)", c.Name(), word, e.Name))
			}
		}
	}
	return out
}

// triedThere tells whether a report has something that was tried at one of the places by one of the services.
func triedThere(p probe.Report, space netset.Addrs, services netset.Services) bool {
	return p.Connected && slices.ContainsFunc(p.Results, func(x probe.Result) bool {
		point, err := netset.ParseServices(x.Service)
		return !x.Untried && err == nil && space.Contains(x.Dst) && len(point.Intersect(services)) > 0
	})
}

func trialsOf(p probe.Report) report.Trials {
	t := report.Trials{
		Class: p.Class, User: p.User, Tester: p.Tester, By: p.By, Inside: p.Inside, Vantage: p.Vantage, At: p.At,
		Connected: p.Connected, Barred: !p.Connected && p.OK, Login: p.Login, Checks: []report.Check{}, Results: []report.Trial{},
	}
	for _, c := range p.Checks {
		t.Checks = append(t.Checks, report.Check(c))
	}
	for _, x := range p.Results {
		if x.Untried {
			continue
		}
		t.Results = append(t.Results, report.Trial{
			Expectation: x.Expectation, Place: x.Place, Dst: x.Dst.String(), Service: x.Service, Want: x.Want, Computed: x.Computed,
			Seen: x.Answered(), Edge: x.Edge, OK: x.OK, Words: x.Seen.Words, Likely: x.Likely,
		})
	}
	return t
}
