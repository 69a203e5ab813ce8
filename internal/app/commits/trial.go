package commits

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/store"
)

// Trial is a revision that goes back by itself unless it is kept.
type Trial struct {
	Revision int       `json:"revision" doc:"0: none is on trial."`
	Back     int       `json:"back" doc:"The revision that it goes back to."`
	Until    time.Time `json:"until,omitzero"`
}

// mayTry refuses a commit while another revision is on trial, whose trial would then go back to something else, and a trial that has
// nothing to go back to.
func (s *Service) mayTry(ctx context.Context, in Request, newest int) error {
	t, err := s.Store.OnTrial(ctx)
	switch {
	case err == nil:
		return refusal.Conflict(fmt.Sprintf("revision %d is on trial until %s: keep it first (yl plan keep), or wait", t.Revision,
			t.Until.Format(time.TimeOnly)))
	case !errors.Is(err, store.ErrNotFound):
		return err
	case newest == 0 && (in.For > 0 || in.Try != nil):
		return refusal.Invalid("this is the first revision: there is nothing to go back to")
	}
	return nil
}

// judges refuses a trial that cannot judge all that a change touches, unless that is allowed; then it is what stays with the revision: a
// trial that does not see something is no success of it.
func judges(in Request, r *plans.Review) (kept []plans.Acceptance, err error) {
	if in.Try == nil {
		return nil, nil
	}
	var words []string
	for _, u := range r.NotJudged(in.Try.Classes) {
		of := strings.Join(u.Classes, ", ")
		words = append(words, fmt.Sprintf("%s for %s: %s", u.Expectation, of, u.Why))
		kept = append(kept, plans.Acceptance{
			Finding: "not-judged@expectations/" + u.Expectation, Problem: fmt.Sprintf("the trial does not judge it for %s: %s", of, u.Why),
			Reason: "a partial trial was allowed",
		})
	}
	if len(words) == 0 || in.Partial {
		return kept, nil
	}
	if more := len(words) - mostSaid; more > 0 {
		words = append(words[:mostSaid], fmt.Sprintf("and %d more", more))
	}
	return nil, refusal.Invalid("the trial cannot judge all that this change touches:\n  " + strings.Join(words, "\n  ") +
		"\ncommit it for a time and look yourself (--for 15m, then yl plan keep), or say --allow-partial-trial")
}

// sameVantages names the vantages that a trial is made from: those that saw how it was must see how it is, also such as are not connected
// any longer by then.
func (s *Service) sameVantages(ctx context.Context, in trials.Request) (*trials.Request, error) {
	from, err := s.Trials.VantagesFor(ctx, in.Vantages)
	in.Vantages = nil
	for _, v := range from {
		in.Vantages = append(in.Vantages, v.Name)
	}
	return &in, err
}

// blind refuses a trial that knew nothing of how it was from some vantage, unless that is allowed: what was not seen to hold is not missed
// afterwards.
func (s *Service) blind(ctx context.Context, in Request, baseline uint) (kept []plans.Acceptance, err error) {
	before, err := s.Trials.Seen(ctx, baseline)
	var words []string
	for _, p := range before {
		if p.Judged() {
			continue
		}
		why := fmt.Sprintf("%d trials are not judged", p.Unconfirmed())
		if p.NotTried {
			why = p.Login
		}
		words = append(words, fmt.Sprintf("%s from %s: %s", p.Class, p.Vantage, why))
		kept = append(kept, plans.Acceptance{
			Finding: "not-judged@" + p.Vantage, Problem: fmt.Sprintf("the trial does not judge %s from %s: %s", p.Class, p.Vantage, why),
			Reason: "a partial trial was allowed",
		})
	}
	if err != nil || len(words) == 0 || in.Partial {
		return kept, err
	}
	if more := len(words) - mostSaid; more > 0 {
		words = append(words[:mostSaid], fmt.Sprintf("and %d more", more))
	}
	return nil, refusal.Invalid("the trial does not know how it is now:\n  " + strings.Join(words, "\n  ") +
		"\nsay other vantages (--vantage), or --allow-partial-trial")
}

const mostSaid = 8 // expectations that are named

// trialOf prepares the trial of a commit; nil if it is to stay. It is called alone.
func (s *Service) trialOf(ctx context.Context, in Request, newest int, baseline uint) (*store.OnTrial, error) {
	if err := s.mayTry(ctx, in, newest); err != nil || in.For == 0 && in.Try == nil {
		return nil, err
	}
	out, most := &store.OnTrial{Back: newest, Baseline: baseline, By: actor.Name(ctx)}, in.For
	if in.Try != nil {
		most += trials.RoundTime // whatever happens to the round
		request, err := json.Marshal(in.Try)
		if err != nil {
			return nil, err
		}
		out.Try = string(request)
	}
	deadline(out, most)
	return out, nil
}

// watchTrial goes back when the time has come. It is called alone.
func (s *Service) watchTrial(t *store.OnTrial) {
	if s.goesBack != nil {
		s.goesBack.Stop()
	}
	if t == nil {
		return
	}
	trial := *t
	s.goesBack = guard.After(left(trial), "commits.watchTrial", func() {
		_ = s.Running.Alone(func() error {
			s.undo(context.Background(), trial, "it was not kept")
			return nil
		})
	})
}

// againAfter is how long after going back failed it is tried again.
const againAfter = 10 * time.Second

// undo goes back from a revision on trial, and tries again until that is done or the revision is kept: somebody relies on it. It is
// called alone.
func (s *Service) undo(ctx context.Context, trial store.OnTrial, why string) {
	err := s.goBack(ctx, trial, why)
	if err == nil {
		s.watchTrial(nil)
		return
	}
	told := reason.Of(reason.DoesNotGoBack, reason.With{
		reason.Revision: strconv.Itoa(trial.Revision), reason.Back: strconv.Itoa(trial.Back), reason.What: why, reason.Error: err.Error(),
		reason.Seconds: againAfter.String(),
	})
	words := told.Words()
	if s.Running.State().Problem != words {
		s.Running.Troubled(trial.Revision, words)
		s.Journal.Tell(told, "")
	}
	s.Log.Error(words)
	if s.goesBack != nil {
		s.goesBack.Stop()
	}
	s.goesBack = guard.After(againAfter, "commits.undo", func() {
		_ = s.Running.Alone(func() error {
			if s.Until.Err() == nil {
				s.undo(context.Background(), trial, why)
			}
			return nil
		})
	})
}

// goBack makes run what ran before a revision on trial, unless that was kept meanwhile, and records it as a revision of its own. It runs
// first: what is on trial must not go on because a disk is full. It is called alone.
func (s *Service) goBack(ctx context.Context, trial store.OnTrial, why string) error {
	now, err := s.Store.OnTrial(ctx)
	if errors.Is(err, store.ErrNotFound) || err == nil && now.Revision != trial.Revision {
		return nil
	}
	if err != nil {
		return err
	}
	old, err := s.Store.Revision(ctx, trial.Back)
	if err != nil {
		return err
	}
	rec := store.Revision{
		Number: trial.Revision + 1, Text: old.Text, Author: "yellow lantern", Accepted: old.Accepted, At: time.Now().UTC(),
		Message: fmt.Sprintf("went back to revision %d by itself from revision %d: %s", trial.Back, trial.Revision, why),
	}
	set, err := s.Running.Settings(ctx, rec.Text)
	if err != nil {
		return err
	}
	if _, err := s.Running.Apply(set, trial.Revision, trial.Back); err != nil {
		return err
	}
	if err := s.Store.AddRevision(ctx, rec, store.Draft{}, nil); err != nil {
		return fmt.Errorf("revision %d runs again, but that cannot be recorded: %w", trial.Back, err)
	}
	s.Running.Recorded(rec.Number)
	if err := s.Plans.BindSecrets(ctx, set.Plan); err != nil { // they are asked for again
		s.Log.Warn("where secrets may be sent is not noted", "error", err)
	}
	s.Journal.Tell(committedAs(rec), rec.Author)
	s.rebaseLater()
	return nil
}

// Trial is the revision that is on trial.
func (s *Service) Trial(ctx context.Context) (Trial, error) {
	t, err := s.Store.OnTrial(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return Trial{}, nil
	}
	return Trial{t.Revision, t.Back, t.Until}, err
}

// Keep keeps a revision that is on trial; 0: the newest.
func (s *Service) Keep(ctx context.Context, number int) (plans.Revision, error) {
	var out plans.Revision
	err := s.Running.Alone(func() error {
		r, err := s.Plans.Revision(ctx, number)
		if err != nil {
			return err
		}
		if err := s.Store.Keep(ctx, r.Number); errors.Is(err, store.ErrNotFound) {
			return refusal.Conflict(fmt.Sprintf("revision %d is not on trial: it stays as it is", r.Number))
		} else if err != nil {
			return err
		}
		s.watchTrial(nil)
		s.Journal.Tell(reason.Of(reason.Kept, reason.With{reason.Revision: strconv.Itoa(r.Number)}), actor.Name(ctx))
		out = plans.RevisionOf(r)
		return nil
	})
	return out, err
}

// Close stops watching; a trial goes on at the next start.
func (s *Service) Close() {
	_ = s.Running.Alone(func() error {
		s.watchTrial(nil)
		return nil
	})
}
