package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Review is what a commit would do.
type Review struct {
	Checked
	Changes []string       `json:"changes" nullable:"false" doc:"Every object and setting that changes, in words."`
	Reach   []reach.Change `json:"reach" nullable:"false" doc:"Who gains and who loses reach."`
	Ends    []string       `json:"ends" nullable:"false" doc:"Users with a live session whose settings change."`
}

func (s *Service) reviewDraft(ctx context.Context, in *Named) (*body[Review], error) {
	d, err := s.oneDraft(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	r, err := s.review(ctx, d.Text)
	return answer(r), err
}

func (s *Service) review(ctx context.Context, text string) (Review, error) {
	r := Review{Changes: []string{}, Reach: []reach.Change{}, Ends: []string{}}
	var doc *plan.Document
	var err error
	if r.Checked, doc, err = s.check(ctx, text); err != nil || doc == nil {
		return r, err
	}
	before, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return r, err
	}
	changes, reaches, err := s.compare(ctx, before.Text, text)
	if err != nil {
		return r, err
	}
	for _, c := range changes {
		r.Changes = append(r.Changes, c.String())
	}
	r.Reach = reaches
	if m, err := modelOf(&doc.Plan); err == nil {
		for _, live := range s.Runner.Sessions() {
			if !gateway.Outdated(m, live).None() && !slices.Contains(r.Ends, live.User) {
				r.Ends = append(r.Ends, live.User)
			}
		}
	}
	return r, nil
}

type commitRequest struct {
	Message string        `json:"message" maxLength:"500"`
	Version int           `json:"version,omitempty" minimum:"0" doc:"The draft's version that was reviewed; 0: whatever it is now."`
	For     int           `json:"for,omitempty" minimum:"0" maximum:"604800" doc:"Seconds after which it goes back by itself unless it is kept; 0: it stays."`
	Try     *roundRequest `json:"try,omitempty" doc:"Try it by a round right after; it goes back by itself if an expectation fails that held before."`
	Accept  []Acceptance  `json:"accept,omitempty" nullable:"false" doc:"Warnings that are accepted, each with a reason."`
}

type committed struct {
	Revision int      `json:"revision"`
	Ended    []string `json:"ended" nullable:"false" doc:"Users whose sessions were ended by the change."`
	Round    uint     `json:"round,omitempty" doc:"The round that tries it."`
	Review   Review   `json:"review"`
}

func (s *Service) commitDraft(ctx context.Context, in *struct {
	Named
	Body commitRequest
},
) (*body[committed], error) {
	s.commits.Lock()
	defer s.commits.Unlock()
	d, err := s.Store.Draft(ctx, in.Name)
	if err != nil {
		return nil, known(err, "draft", in.Name)
	}
	if in.Body.Version != 0 && in.Body.Version != d.Version {
		return nil, huma.Error409Conflict(fmt.Sprintf("draft %q is version %d, and version %d was reviewed: look at it again", d.Name,
			d.Version, in.Body.Version))
	}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if d.Base != newest.Number {
		return nil, s.behind(ctx, d, newest)
	}
	review, err := s.review(ctx, d.Text)
	if err != nil {
		return nil, err
	}
	if err := refusal(review.Checked, in.Body.Accept); err != nil {
		return nil, err
	}
	set, err := s.settings(ctx, d.Text)
	if err != nil {
		return nil, err
	}
	accepted, _ := json.Marshal(acceptedOf(review.Checked, in.Body.Accept))
	rec := store.Revision{
		Number: newest.Number + 1, Text: d.Text, Author: administrator(ctx), Message: in.Body.Message,
		Accepted: string(accepted), At: time.Now().UTC(),
	}
	if in.Body.Try != nil {
		in.Body.For = int(roundTime.Seconds()) + in.Body.For // whatever happens to the round
	}
	trial, err := s.trialOf(ctx, in.Body.For, newest.Number)
	if err != nil {
		return nil, err
	}
	var baseline []probe.Report
	if in.Body.Try != nil {
		if baseline, err = s.baseline(ctx, newest.Number, *in.Body.Try); err != nil {
			return nil, err
		}
	}
	// It runs before it is recorded: what is recorded has run. If the process dies in between, the revision before it runs again.
	before, was := s.ran, s.runs.Load()
	ended, err := s.apply(rec.Number, set)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("the gateway cannot run this plan, nothing was changed: " + err.Error())
	}
	if err := s.Store.AddRevision(context.WithoutCancel(ctx), rec, d.Name, trial); err != nil {
		s.restore(before, was)
		return nil, known(err, "revision", fmt.Sprint(rec.Number))
	}
	s.tell(committedAs(rec), rec.Author)
	s.rebaseLater()
	s.watchTrial(trial)
	out := committed{Revision: rec.Number, Ended: append([]string{}, ended...), Review: review}
	if in.Body.Try != nil {
		if out.Round, err = s.tryCommitted(ctx, *trial, *in.Body.Try, baseline); err != nil {
			return nil, err
		}
	}
	return answer(out), nil
}

func committedAs(r store.Revision) reason.Reason {
	return reason.Of(reason.Committed, reason.With{reason.Revision: strconv.Itoa(r.Number), reason.Message: r.Message})
}

// rebaseLater brings other people's drafts onto the newest revision beside everything else: whoever commits does not wait for them.
func (s *Service) rebaseLater() {
	s.background.Go(func() { s.rebaseOthers(s.running) })
}

// rebaseOthers brings every other draft onto the new revision where that goes without conflict.
func (s *Service) rebaseOthers(ctx context.Context) {
	drafts, err := s.Store.Drafts(ctx)
	if err != nil {
		return
	}
	for _, d := range drafts {
		if _, err := s.rebase(ctx, d); err != nil {
			s.Log.Warn("draft not rebased", "draft", d.Name, "error", err)
		}
	}
}

func refusal(c Checked, accept []Acceptance) error {
	if len(c.Faults) > 0 {
		return huma.Error422UnprocessableEntity("this is no plan yet: " + c.Faults.Error())
	}
	var stops, open []string
	for _, f := range c.Findings {
		switch {
		case f.Severity == check.Stop:
			stops = append(stops, fmt.Sprintf("line %d, %s: %s (mend: %s)", f.Line, f.Path, f.Problem, f.Fix))
		case f.Severity == check.Warn && reasonFor(accept, f) == "":
			open = append(open, f.ID())
		}
	}
	switch {
	case len(stops) > 0:
		return huma.Error422UnprocessableEntity("refused, nothing was changed:\n" + strings.Join(stops, "\n"))
	case len(open) > 0:
		return huma.Error422UnprocessableEntity("refused, nothing was changed: accept each warning with a reason, or mend it: " +
			strings.Join(open, ", "))
	}
	return nil
}

// reasonFor is why a warning is accepted; empty if it is not.
func reasonFor(accept []Acceptance, f check.Finding) string {
	for _, a := range accept {
		if a.Finding == f.ID() {
			return strings.TrimSpace(a.Reason)
		}
	}
	return ""
}

func acceptedOf(c Checked, accept []Acceptance) []Acceptance {
	out := []Acceptance{}
	for _, f := range c.Findings {
		if f.Severity == check.Warn {
			out = append(out, Acceptance{f.ID(), reasonFor(accept, f), f.Problem})
		}
	}
	return out
}

// settings is what the gateway needs to run a document.
func (s *Service) settings(ctx context.Context, text string) (gateway.Settings, error) {
	doc, err := s.docs.read(text)
	if err != nil {
		return gateway.Settings{}, mistaken(err)
	}
	set := gateway.Settings{Plan: &doc.Plan}
	if len(doc.Plan.Gateways) == 0 {
		return set, huma.Error422UnprocessableEntity("the plan has no gateway")
	}
	set.Gateway = doc.Plan.Gateways[0].Name
	set.Certificates = map[string]gateway.Certificate{}
	records, err := s.Store.Revoked(ctx)
	if err != nil {
		return set, err
	}
	revoked := map[string]bool{}
	for _, r := range records {
		revoked[r.Serial] = true
	}
	for _, t := range doc.Plan.Tunnels {
		if t.Off || t.Gateway != set.Gateway {
			continue
		}
		pair, err := s.Store.Certificate(ctx, t.Certificate)
		if err != nil {
			return set, fmt.Errorf("certificate %q: %w", t.Certificate, err)
		}
		if revoked[pair.Leaf.SerialNumber.Text(16)] {
			return set, huma.Error422UnprocessableEntity(fmt.Sprintf(
				"certificate %s, which tunnel %s shows, is revoked: make another one under that name (yl certificate make)", t.Certificate, t.Name))
		}
		set.Certificates[t.Certificate] = gateway.Certificate{Chain: pair.Chain(), Key: pair.Key}
	}
	return set, nil
}
