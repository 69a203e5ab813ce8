// Package running holds what runs: which revision, what keeps the newest from it, and the one way to change that. It knows nothing of why
// it is changed.
package running

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"sync"
	"sync/atomic"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Gateway is what carries a plan out.
type Gateway interface {
	// Apply makes a plan what runs, at once, and gives the users whose sessions it had to end.
	Apply(gateway.Settings) (ended []string, err error)
	Status() gateway.Status
	Inside() inside.Observed
	// Stop ends every session, and admits nobody until something is applied again.
	Stop()
}

// Service is what runs.
type Service struct {
	Store   *store.Store
	Journal *journal.Service
	Wholes  *compiled.Cache
	Gateway Gateway
	Log     *slog.Logger
	// Shown makes sure that there is a certificate of a name, good for a host: one is made where there is none. Nil: it is not.
	Shown func(ctx context.Context, name, host string) error

	alone sync.Mutex
	ran   atomic.Pointer[gateway.Settings] // nil: nothing runs. Written alone
	state atomic.Pointer[State]
}

// Alone does something while nobody else changes what runs, nor lets go of what it needs. It must not wait for people or trials.
func (s *Service) Alone(do func() error) error {
	s.alone.Lock()
	defer s.alone.Unlock()
	return do()
}

// State is which revision runs, and what keeps the newest one from it.
type State struct {
	Newest  int    `json:"newest" doc:"The newest revision; 0: none was committed."`
	Runs    int    `json:"runs" doc:"The revision that runs; 0: none, nobody is admitted."`
	Problem string `json:"problem,omitempty" doc:"Why it is not the newest, and what to do."`
}

// Status is what runs and what it has counted.
type Status struct {
	State
	gateway.Status
}

// Status is how it is just now.
func (s *Service) Status() Status { return Status{s.State(), s.Gateway.Status()} }

// State is which revision runs.
func (s *Service) State() State {
	if r := s.state.Load(); r != nil {
		return *r
	}
	return State{}
}

// Troubled notes what keeps what runs from being as it should, until something is applied.
func (s *Service) Troubled(newest int, words string) {
	now := s.State()
	if s.state.Load() == nil {
		now.Newest = newest
	}
	now.Problem = words
	s.state.Store(&now)
}

// Troubles says what does not run, or carries nothing: whatever is computed, people do not reach it.
func (s *Service) Troubles() []string {
	out := []string{}
	if r := s.State(); r.Problem != "" {
		out = append(out, r.Problem)
	}
	for _, p := range s.Gateway.Inside().Problems {
		out = append(out, p.Words)
	}
	return out
}

// Apply makes settings what runs, of the revision runs where newest is the newest. What ran before goes on running if that fails. It is
// called alone.
func (s *Service) Apply(set gateway.Settings, newest, runs int) (ended []string, err error) {
	set.Revision = runs
	if ended, err = s.Gateway.Apply(set); err == nil {
		s.ran.Store(&set)
		s.state.Store(&State{Newest: newest, Runs: runs})
	}
	return ended, err
}

// Plan is what the gateway was handed last; nil: nothing yet. It must not be altered.
func (s *Service) Plan() *plan.Plan {
	if ran := s.ran.Load(); ran != nil {
		return ran.Plan
	}
	return nil
}

// Recorded notes that what runs is a revision by now.
func (s *Service) Recorded(number int) { s.state.Store(&State{Newest: number, Runs: number}) }

// Before is what ran at some moment.
type Before struct {
	ran   *gateway.Settings
	state *State
}

// Now is what runs now. It is called alone.
func (s *Service) Now() Before { return Before{s.ran.Load(), s.state.Load()} }

// Restore makes what ran before run again: what was applied could not be recorded. It is called alone.
func (s *Service) Restore(b Before) {
	s.ran.Store(b.ran)
	s.state.Store(b.state)
	if b.ran == nil {
		s.Gateway.Stop()
		return
	}
	ran := *b.ran
	ran.Again = true // it ran on this machine: what is missing there now does not keep it from running again
	if _, err := s.Gateway.Apply(ran); err != nil {
		s.Log.Error("what ran before does not run again: nobody is admitted", "error", err)
		s.Gateway.Stop()
	}
}

// Start runs the newest revision; where it cannot run, what runs instead is decided and told. It is called alone.
func (s *Service) Start(ctx context.Context, newest store.Revision) {
	set, err := s.Settings(ctx, newest.Text)
	set.Again = true
	if err == nil {
		_, err = s.Apply(set, newest.Number, newest.Number)
	}
	switch {
	case errors.Is(err, gateway.ErrNotReached):
		s.unreached(newest.Number, err)
		return
	case err != nil:
		s.instead(ctx, newest, err)
		return
	}
	s.Log.Info("running", "revision", newest.Number, "gateway", set.Gateway)
}

// unreached notes that a gateway in another process does not answer: whatever it carries out goes on, and it is told what to run once it
// is reached (Again).
func (s *Service) unreached(newest int, err error) {
	state := State{
		Newest:  newest,
		Problem: fmt.Sprintf("%v; what it ran goes on, and it is told of revision %d once it answers", err, newest),
	}
	if now := s.State(); s.state.Load() != nil {
		state.Runs = now.Runs
	}
	s.state.Store(&state)
	s.Log.Error(state.Problem)
}

// Again hands the newest revision to a gateway that is reached again: it may be another process by then.
func (s *Service) Again() {
	err := s.Alone(func() error {
		ctx := context.Background()
		newest, err := s.Store.Newest(ctx)
		if err == nil {
			s.Start(ctx, newest)
		}
		return err
	})
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		s.Log.Error("what is to run is not known", "error", err)
	}
}

// Reload lets the gateway show certificates that are kept now, if the running plan names them, and writes down why.
func (s *Service) Reload(ctx context.Context, why reason.Reason) {
	_ = s.Alone(func() error {
		s.Journal.Tell(why, "")
		newest, err := s.Store.Newest(ctx)
		if err == nil { // such as a certificate that is shown and was revoked: from now on nobody is shown it
			s.Start(ctx, newest)
		}
		return nil
	})
}

// instead runs the revision before one that cannot run, but only where that lets nobody do what the newest does not: with the people of
// today, and certificates that were not revoked. Otherwise nobody is admitted. It is called alone.
func (s *Service) instead(ctx context.Context, newest store.Revision, why error) {
	state := State{Newest: newest.Number}
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
		s.Gateway.Stop()
		s.ran.Store(nil)
	}
	s.state.Store(&state)
	s.Journal.Tell(reason.Of(reason.NewestDoesNotRun, reason.With{
		reason.Revision: strconv.Itoa(newest.Number),
		reason.Error:    state.Problem,
	}), "")
	s.Log.Error(state.Problem)
}

// runNoWider runs a revision in place of another one, unless it is wider.
func (s *Service) runNoWider(ctx context.Context, old, newest store.Revision) error {
	if err := s.noWider(ctx, old.Text, newest.Text); err != nil {
		return err
	}
	set, err := s.Settings(ctx, old.Text)
	if err == nil {
		_, err = s.Apply(set, newest.Number, old.Number)
	}
	return err
}

// noWider is an error where a plan lets somebody reach what another one does not.
func (s *Service) noWider(ctx context.Context, text, than string) error {
	was, err := s.known(ctx, text)
	if err != nil {
		return err
	}
	now, err := s.known(ctx, than)
	if err != nil {
		return fmt.Errorf("it cannot be held against the newest: %w", err)
	}
	for _, c := range reach.ChangesBetween(now, was) {
		if len(c.Gains) > 0 {
			return fmt.Errorf("it lets %s reach %s, which the newest does not", c.Class, c.Gains[0])
		}
	}
	return nil
}

func (s *Service) known(ctx context.Context, text string) (*reach.Known, error) {
	w, err := s.Wholes.Of(text)
	if err != nil {
		return nil, err
	}
	return w.Known(ctx)
}
