package commits

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Request says how a draft is to be committed.
type Request struct {
	Message string
	Version int                // the draft's that was reviewed; 0: whatever it is now
	For     time.Duration      // after which it goes back by itself unless it is kept; 0: it stays
	Try     *trials.Request    // by a round right after: it goes back by itself if an expectation fails that held before
	Partial bool               // with Try: also where it cannot judge all that the change touches
	Accept  []plans.Acceptance // warnings that are accepted, each with a reason
}

// Committed is what became of a draft.
type Committed struct {
	Revision int          `json:"revision"`
	Ended    []string     `json:"ended" nullable:"false" doc:"Users whose sessions were ended by the change."`
	Round    uint         `json:"round,omitempty" doc:"The round that tries it."`
	Review   plans.Review `json:"review"`
}

// Commit makes a draft the newest revision, which runs at once.
func (s *Service) Commit(ctx context.Context, name string, in Request) (Committed, error) {
	var out Committed
	d, newest, err := s.ready(ctx, name, in.Version)
	if err != nil {
		return out, err
	}
	if err := s.approved(ctx, d); err != nil {
		return out, err
	}
	if out.Review, err = s.Plans.ReviewText(ctx, d.Text); err != nil {
		return out, err
	}
	approved, err := s.Plans.ApprovedByAnother(ctx, d)
	if err != nil {
		return out, err
	}
	if approved { // whoever approved it saw where secrets are sent
		out.Review.Checked = without(out.Review.Checked, plans.SecretElsewhere)
	}
	accept := append(slices.Clone(in.Accept), out.Review.Accepted...)
	if err := refused(out.Review.Checked, accept); err != nil {
		return out, err
	}
	if err := s.mayTry(ctx, in, newest.Number); err != nil {
		return out, err
	}
	unjudged, err := judges(in, &out.Review)
	if err != nil {
		return out, err
	}
	var baseline uint
	step := store.CommitStep{Draft: d.Name, By: actor.Name(ctx), At: time.Now().UTC()}
	if in.Try != nil {
		if err := s.Store.BeginCommit(ctx, &step); err != nil {
			return out, err
		}
		defer func() { _ = s.Store.EndCommit(context.WithoutCancel(ctx), step.ID) }() // done, or refused
		if in.Try, err = s.sameVantages(ctx, *in.Try); err != nil {
			return out, err
		}
		if baseline, err = s.Trials.Baseline(ctx, newest.Number, *in.Try); err != nil {
			return out, err
		}
		blind, err := s.blind(ctx, in, baseline)
		if err != nil {
			return out, err
		}
		unjudged = append(unjudged, blind...)
	}
	accepted, _ := json.Marshal(append(acceptedOf(out.Review.Checked, accept), unjudged...))
	rec := store.Revision{
		Number: newest.Number + 1, Text: d.Text, Author: actor.Name(ctx), Message: in.Message, Accepted: string(accepted),
	}
	var trial *store.OnTrial
	err = s.Running.Alone(func() error {
		if trial, err = s.trialOf(ctx, in, newest.Number, baseline); err != nil {
			return err
		}
		out.Ended, err = s.put(ctx, d, rec, trial)
		return err
	})
	if err != nil {
		return out, err
	}
	out.Revision, out.Ended = rec.Number, append([]string{}, out.Ended...)
	s.Journal.Tell(committedAs(rec), rec.Author)
	s.rebaseLater()
	if baseline != 0 {
		out.Round, err = s.try(ctx, *trial)
	}
	return out, err
}

// ready finds a draft that can be committed: the version that was reviewed, on the newest revision.
func (s *Service) ready(ctx context.Context, name string, version int) (store.Draft, store.Revision, error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return d, store.Revision{}, refusal.Known(err, "draft", name)
	}
	if version != 0 && version != d.Version {
		return d, store.Revision{}, refusal.Conflict(fmt.Sprintf(
			"draft %q is version %d, and version %d was reviewed: look at it again", d.Name, d.Version, version))
	}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return d, newest, err
	}
	if d.Base != newest.Number {
		return d, newest, s.Plans.Behind(ctx, d, newest)
	}
	return d, newest, nil
}

// put makes a revision run, and records it with its trial. It runs before it is recorded: what is recorded has run. If the process dies in
// between, the revision before it runs again. It is called alone: what was looked at before is looked at again.
func (s *Service) put(ctx context.Context, d store.Draft, rec store.Revision, trial *store.OnTrial) (ended []string, err error) {
	if _, newest, err := s.ready(ctx, d.Name, d.Version); err != nil {
		return nil, err
	} else if newest.Number != rec.Number-1 {
		return nil, s.Plans.Behind(ctx, d, newest)
	}
	set, err := s.Running.Settings(ctx, d.Text)
	if err != nil {
		return nil, err
	}
	before := s.Running.Now()
	if ended, err = s.Running.Apply(set, rec.Number, rec.Number); err != nil {
		return nil, refusal.Invalid("the gateway cannot run this plan, nothing was changed: " + err.Error())
	}
	rec.At = time.Now().UTC()
	if err := s.Store.AddRevision(context.WithoutCancel(ctx), rec, d, trial); err != nil {
		s.Running.Restore(before)
		return nil, refusal.Known(err, "revision", fmt.Sprint(rec.Number))
	}
	if err := s.Plans.BindSecrets(context.WithoutCancel(ctx), set.Plan); err != nil { // they are asked for again
		s.Log.Warn("where secrets may be sent is not noted", "error", err)
	}
	s.watchTrial(trial)
	return ended, nil
}

func committedAs(r store.Revision) reason.Reason {
	return reason.Of(reason.Committed, reason.With{reason.Revision: strconv.Itoa(r.Number), reason.Message: r.Message})
}

// rebaseLater brings other people's drafts onto the newest revision beside everything else: whoever commits does not wait for them.
func (s *Service) rebaseLater() {
	s.Background.Go("commits.rebaseLater", func() { s.Plans.RebaseAll(s.Until) })
}

// Resume puts the newest revision into effect, after a start, and takes up a commit where the service left it. Whatever keeps a revision
// from running, console and API come up, say so, and let it be mended.
func (s *Service) Resume(ctx context.Context) error {
	left, err := s.Store.LeftCommits(ctx)
	if err != nil {
		return err
	}
	for _, step := range left { // nothing of them has run
		s.Journal.Tell(reason.Of(reason.CommitLeft, reason.With{reason.Name: step.Draft}), step.By)
		if err := s.Store.EndCommit(ctx, step.ID); err != nil {
			s.Log.Error("a commit that was left is not forgotten", "draft", step.Draft, "error", err) // a full disk, say
		}
	}
	return s.Running.Alone(func() error {
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
		case errors.Is(err, store.ErrNotFound):
			s.Running.Start(ctx, r)
			return nil
		case err != nil:
			return err
		case overdue(trial):
			s.undo(ctx, trial, "it was not kept")
			return nil
		}
		s.watchTrial(&trial)
		s.Running.Start(ctx, r)
		if trial.Baseline != 0 {
			s.Background.Go("commits.Resume", func() { s.tryAgain(trial) })
		}
		return nil
	})
}
