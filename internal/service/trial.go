package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Trial is a revision that goes back by itself unless it is kept.
type Trial struct {
	Revision int       `json:"revision" doc:"0: none is on trial."`
	Back     int       `json:"back" doc:"The revision that it goes back to."`
	Until    time.Time `json:"until,omitzero"`
}

// trialOf prepares the trial of a commit; nil if it is to stay. While one revision is on trial there is no other commit: what
// it would go back to must stay what was running before it.
func (s *Service) trialOf(ctx context.Context, seconds, newest int) (*store.OnTrial, error) {
	t, err := s.Store.OnTrial(ctx)
	switch {
	case err == nil:
		return nil, huma.Error409Conflict(fmt.Sprintf("revision %d is on trial until %s: keep it first (yl plan keep), or wait", t.Revision,
			t.Until.Format(time.TimeOnly)))
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	case seconds == 0:
		return nil, nil
	case newest == 0:
		return nil, huma.Error422UnprocessableEntity("this is the first revision: there is nothing to go back to")
	}
	out := &store.OnTrial{Back: newest}
	deadline(out, time.Duration(seconds)*time.Second)
	return out, nil
}

// watchTrial goes back when the time has come. s.commits is held.
func (s *Service) watchTrial(t *store.OnTrial) {
	if s.goesBack != nil {
		s.goesBack.Stop()
	}
	if t == nil {
		return
	}
	trial := *t
	s.goesBack = time.AfterFunc(left(trial), func() {
		s.commits.Lock()
		defer s.commits.Unlock()
		s.undo(context.Background(), trial, "it was not kept")
	})
}

// againAfter is how long after going back failed it is tried again.
const againAfter = 10 * time.Second

// undo goes back from a revision on trial, and tries again until that is done or the revision is kept: somebody relies on it. s.commits
// is held.
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
	now := s.runs.Load()
	if now == nil {
		now = &Running{Newest: trial.Revision}
	}
	if loud := *now; loud.Problem != words {
		loud.Problem = words
		s.runs.Store(&loud)
		s.tell(told, "")
	}
	s.Log.Error(words)
	if s.goesBack != nil {
		s.goesBack.Stop()
	}
	s.goesBack = time.AfterFunc(againAfter, func() {
		s.commits.Lock()
		defer s.commits.Unlock()
		if s.running.Err() == nil {
			s.undo(context.Background(), trial, why)
		}
	})
}

// goBack makes run what ran before a revision on trial, unless that was kept meanwhile, and records it as a revision of its own. It runs
// first: what is on trial must not go on because a disk is full. s.commits is held.
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
	set, err := s.settings(ctx, rec.Text)
	if err != nil {
		return err
	}
	if _, err := s.Runner.Apply(set); err != nil {
		return err
	}
	s.ran = &set
	s.runs.Store(&Running{Newest: trial.Revision, Runs: trial.Back})
	if err := s.Store.AddRevision(ctx, rec, "", nil); err != nil {
		return fmt.Errorf("revision %d runs again, but that cannot be recorded: %w", trial.Back, err)
	}
	s.runs.Store(&Running{Newest: rec.Number, Runs: rec.Number})
	s.tell(committedAs(rec), rec.Author)
	s.rebaseLater()
	return nil
}

func (s *Service) trial(ctx context.Context, _ *struct{}) (*body[Trial], error) {
	t, err := s.Store.OnTrial(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return answer(Trial{}), nil
	}
	return answer(Trial{t.Revision, t.Back, t.Until}), err
}

func (s *Service) keep(ctx context.Context, in *struct {
	Number int `path:"number" minimum:"0" doc:"0: the newest."`
},
) (*body[Revision], error) {
	s.commits.Lock()
	defer s.commits.Unlock()
	r, err := s.revisionOrNewest(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Keep(ctx, r.Number); errors.Is(err, store.ErrNotFound) {
		return nil, huma.Error409Conflict(fmt.Sprintf("revision %d is not on trial: it stays as it is", r.Number))
	} else if err != nil {
		return nil, err
	}
	s.watchTrial(nil)
	s.tell(reason.Of(reason.Kept, reason.With{reason.Revision: strconv.Itoa(r.Number)}), administrator(ctx))
	return answer(revision(r)), nil
}

// Leave ends what goes on without anybody waiting for it: rounds, and what viewers look at.
func (s *Service) Leave() { s.shut() }

// Close ends what waits; a trial goes on at the next start.
func (s *Service) Close() {
	s.shut()
	s.background.Wait()
	s.commits.Lock()
	defer s.commits.Unlock()
	s.watchTrial(nil)
}
