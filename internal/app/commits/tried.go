package commits

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// try has a revision tried that was just committed, and keeps it or goes back by itself when that is over.
func (s *Service) try(ctx context.Context, t store.OnTrial) (uint, error) {
	ctx = context.WithoutCancel(ctx) // it runs, and is tried, whether or not whoever committed it still waits
	var in trials.Request
	err := json.Unmarshal([]byte(t.Try), &in)
	var r trials.Round
	var done <-chan struct{}
	for err == nil && done == nil {
		if r, done, err = s.Trials.Start(ctx, t.By, in); underWay(err) && left(t) > 0 && s.waits() { // one that the schedule began, say
			err = nil
		}
	}
	if err != nil && s.Until.Err() != nil { // the next start tries it again
		return 0, refusal.Conflict("the service ends: it is tried when it starts again, and runs meanwhile")
	}
	if err != nil {
		_ = s.Running.Alone(func() error {
			s.undo(ctx, t, "it could not be tried: "+err.Error())
			return nil
		})
		return 0, refusal.Invalid("it was taken back, for it could not be tried: " + err.Error())
	}
	s.Background.Go("commits.try", func() {
		<-done
		err := s.Running.Alone(func() error { return s.conclude(context.Background(), t, r.ID) })
		if err != nil {
			s.Log.Error("a revision on trial was neither kept nor taken back yet", "revision", t.Revision, "error", err)
		}
	})
	return r.ID, nil
}

// underWay tells whether a round could not begin because another one is not over yet.
func underWay(err error) bool {
	var no *refusal.Error
	return errors.As(err, &no) && no.Sort == refusal.Clashes
}

// waits waits a moment; false: the service ends.
func (s *Service) waits() bool {
	select {
	case <-time.After(settle):
		return true
	case <-s.Until.Done():
		return false
	}
}

// settle is for how long a gateway that has just started is left alone before a revision on trial is tried again, and how often it is
// looked whether a round can begin.
const settle = time.Second

// tryAgain takes up the trial of a revision that the service left when it ended.
func (s *Service) tryAgain(t store.OnTrial) {
	if !s.waits() {
		return
	}
	if _, err := s.try(s.Until, t); err != nil {
		s.Log.Error("a revision on trial could not be tried again", "revision", t.Revision, "error", err)
	}
}

// conclude keeps a revision whose round saw every expectation hold that held before, and goes back from any other. It is called alone.
func (s *Service) conclude(ctx context.Context, t store.OnTrial, id uint) error {
	r, err := s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	if r.State != trials.RoundDone { // the service ends: at the next start it is tried again
		return nil
	}
	before, err := s.Trials.Seen(ctx, t.Baseline)
	if err != nil {
		return err
	}
	after, err := s.Trials.Seen(ctx, id)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(after, func(p probe.Report) bool { return p.Connected }) {
		s.undo(ctx, t, fmt.Sprintf("round %d judged nothing, for nobody could log in", id))
		return nil
	}
	if broken := trials.Broken(before, after); len(broken) > 0 {
		s.undo(ctx, t, fmt.Sprintf("round %d saw fail what held before: %s", id, strings.Join(broken[:min(len(broken), 3)], "; ")))
		return nil
	}
	err = s.Store.Keep(ctx, t.Revision)
	if errors.Is(err, store.ErrNotFound) { // somebody kept it, or its time had come
		return nil
	}
	if err != nil { // the timer still runs: it goes back when its time has come
		return err
	}
	s.watchTrial(nil)
	s.Journal.Tell(reason.Of(reason.KeptByRound, reason.With{
		reason.Revision: strconv.Itoa(t.Revision), reason.Round: fmt.Sprint(id),
	}), r.By)
	return nil
}
