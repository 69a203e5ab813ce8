package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Running is which revision runs, and what keeps the newest one from it.
type Running struct {
	Newest  int    `json:"newest" doc:"The newest revision; 0: none was committed."`
	Runs    int    `json:"runs" doc:"The revision that runs; 0: none, nobody is admitted."`
	Problem string `json:"problem,omitempty" doc:"Why it is not the newest, and what to do."`
}

// Status is what runs and what it has counted.
type Status struct {
	Running
	gateway.Status
}

func (s *Service) status(context.Context, *struct{}) (*body[Status], error) {
	out := Status{Status: s.Runner.Status()}
	if r := s.runs.Load(); r != nil {
		out.Running = *r
	}
	return answer(out), nil
}

// apply makes a revision's settings what runs. What ran before goes on running if that fails. s.commits is held.
func (s *Service) apply(number int, set gateway.Settings) (ended []string, err error) {
	if ended, err = s.Runner.Apply(set); err == nil {
		s.ran = &set
		s.runs.Store(&Running{Newest: number, Runs: number})
	}
	return ended, err
}

// restore makes what ran before run again: what was applied could not be recorded. s.commits is held.
func (s *Service) restore(before *gateway.Settings, was *Running) {
	s.ran = before
	s.runs.Store(was)
	if before == nil {
		s.Runner.Stop()
		return
	}
	if _, err := s.Runner.Apply(*before); err != nil {
		s.Log.Error("what ran before does not run again: nobody is admitted", "error", err)
		s.Runner.Stop()
	}
}

// Resume puts the newest revision into effect, after a start. Whatever keeps it from running, the console and the API come up, say so, and
// let it be mended.
func (s *Service) Resume(ctx context.Context) error {
	if err := s.stopRounds(ctx); err != nil { // a full disk, say: that stops writing, and nothing else
		s.Log.Error("rounds that were under way are not noted as stopped", "error", err)
	}
	s.commits.Lock()
	defer s.commits.Unlock()
	r, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		s.Log.Info("no plan is committed yet: the gateway waits")
		return nil
	}
	if err != nil {
		return err
	}
	trial, err := s.Store.OnTrial(ctx)
	switch {
	case err == nil && s.overdue(trial):
		s.undo(ctx, trial, "it was not kept")
		return nil
	case err == nil:
		s.watchTrial(&trial)
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	set, err := s.settings(ctx, r.Text)
	if err == nil {
		_, err = s.apply(r.Number, set)
	}
	if err != nil {
		s.instead(ctx, r, err)
		return nil
	}
	s.Log.Info("running", "revision", r.Number, "gateway", set.Gateway)
	return nil
}

// instead runs the revision before one that cannot run, but only where that lets nobody do what the newest does not: with the people of
// today, and certificates that were not revoked. Otherwise nobody is admitted. s.commits is held.
func (s *Service) instead(ctx context.Context, newest store.Revision, why error) {
	state := Running{Newest: newest.Number}
	cannot := fmt.Sprintf("revision %d cannot run: %v", newest.Number, why)
	const mend = "; mend that, or commit a plan that can run"
	old, err := s.Store.Revision(ctx, newest.Number-1)
	if err == nil {
		err = s.runNoWider(ctx, old, newest)
	}
	switch {
	case err == nil:
		state.Runs = old.Number
		state.Problem = cannot + fmt.Sprintf("; revision %d runs in its place, which lets nobody reach more", old.Number) + mend
	case errors.Is(err, store.ErrNotFound):
		state.Problem = "nobody is admitted: " + cannot + mend
	default:
		state.Problem = "nobody is admitted: " + cannot + mend +
			fmt.Sprintf(" (revision %d is not run in its place, for %v)", newest.Number-1, err)
	}
	if state.Runs == 0 {
		s.Runner.Stop()
		s.ran = nil
	}
	s.runs.Store(&state)
	s.tell(reason.Of(reason.NewestDoesNotRun, reason.With{reason.Revision: strconv.Itoa(newest.Number), reason.Error: state.Problem}), "")
	s.Log.Error(state.Problem)
}

// runNoWider runs a revision in place of another one, unless it is wider.
func (s *Service) runNoWider(ctx context.Context, old, newest store.Revision) error {
	if err := s.noWider(ctx, old.Text, newest.Text); err != nil {
		return err
	}
	set, err := s.settings(ctx, old.Text)
	if err == nil {
		_, err = s.apply(old.Number, set)
	}
	return err
}

// noWider is an error where a plan lets somebody reach what another one does not.
func (s *Service) noWider(ctx context.Context, text, than string) error {
	older, err := s.docs.read(text)
	if err != nil {
		return err
	}
	newer, err := s.docs.read(than)
	if err != nil {
		return fmt.Errorf("it cannot be held against the newest: %w", err)
	}
	was, err := modelOf(&older.Plan)
	if err != nil {
		return err
	}
	now, err := modelOf(&newer.Plan)
	if err != nil {
		return fmt.Errorf("it cannot be held against the newest: %w", err)
	}
	persons, err := s.People.Persons(ctx)
	if err != nil {
		return err
	}
	for _, c := range reach.ChangesBetween(reach.Compute(now, persons), reach.Compute(was, persons)) {
		if len(c.Gains) > 0 {
			return fmt.Errorf("it lets %s reach %s, which the newest does not", c.Class, c.Gains[0])
		}
	}
	return nil
}
