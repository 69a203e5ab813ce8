package running

import (
	"context"
	"fmt"
	"strings"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
)

// Release lets go of something that is kept beside plans and named by them (plan.Needs), unless they need it: what runs, or is gone back to
// from a trial, always; earlier ones unless it is said that nobody will go back to them (evenSo).
func (s *Service) Release(ctx context.Context, kind, name string, evenSo bool, forget func() error) error {
	return s.Alone(func() error { // what a commit is about to need stays
		if err := s.needed(ctx, kind, name, evenSo); err != nil {
			return err
		}
		return refusal.Known(forget(), kind, name)
	})
}

func (s *Service) needed(ctx context.Context, kind, name string, evenSo bool) error {
	trial, err := s.Store.OnTrial(ctx)
	back := 0
	if err == nil {
		back = trial.Back
	}
	numbers, err := s.Store.RevisionsThatSay(ctx, name)
	if err != nil {
		return err
	}
	var earlier []string
	for i, n := range numbers { // the newest first
		r, err := s.Store.Revision(ctx, n)
		if err != nil {
			return err
		}
		doc, err := plan.Read(r.Text) // not by the cache: it would forget what is looked at
		if err != nil {
			continue // nobody can go back to what cannot be read
		}
		users := doc.Plan.Needs(kind, name)
		newest, err := s.Store.NewestNumber(ctx)
		switch {
		case err != nil:
			return err
		case len(users) == 0:
		case n == newest:
			return refusal.Conflict(fmt.Sprintf("%s of the running plan names %s %s: commit a plan without it first",
				users[0], kind, name))
		case n == back:
			return refusal.Conflict(fmt.Sprintf(
				"revision %d is on trial, and revision %d, to which it goes back by itself, needs this %s: wait, or keep it (yl plan keep)",
				trial.Revision, n, kind))
		case i < mostNamed:
			earlier = append(earlier, fmt.Sprint(n))
		}
	}
	if len(earlier) > 0 && !evenSo {
		return refusal.Conflict(fmt.Sprintf(
			"revisions %s need this %s, and nobody can go back to them without it: say even-so if that is meant",
			strings.Join(earlier, ", "), kind))
	}
	return nil
}

const mostNamed = 20 // revisions that are named in an answer
