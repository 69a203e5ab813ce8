package plans

import (
	"context"
	"errors"
	"slices"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Review is what a commit would do.
type Review struct {
	Checked
	Changes []string       `json:"changes" nullable:"false" doc:"Every object and setting that changes, in words."`
	Reach   []reach.Change `json:"reach" nullable:"false" doc:"Who gains and who loses reach."`
	Ends    []string       `json:"ends" nullable:"false" doc:"Users with a live session whose settings change."`
	First   []ComesIn      `json:"first,omitempty" nullable:"false" doc:"Of the first plan, in place of a list of everything in it: who comes in how, and reaches what."`
}

// Review says what a commit of a draft would do.
func (s *Service) Review(ctx context.Context, draft string) (Review, error) {
	d, err := s.Draft(ctx, draft)
	if err != nil {
		return Review{}, err
	}
	return s.ReviewText(ctx, d.Text)
}

// ReviewText says what a commit of a text would do.
func (s *Service) ReviewText(ctx context.Context, text string) (Review, error) {
	r := Review{Changes: []string{}, Reach: []reach.Change{}, Ends: []string{}}
	var err error
	if r.Checked, err = s.Check(ctx, text); err != nil || len(r.Faults) > 0 {
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
	w, err := s.Wholes.Of(text)
	if err != nil {
		return r, err
	}
	if m, err := w.Model(); err == nil {
		if before.Number == 0 {
			r.First = comesIn(m)
		}
		for _, live := range s.Gateway.Sessions() {
			if !gateway.Outdated(m, live).None() && !slices.Contains(r.Ends, live.User) {
				r.Ends = append(r.Ends, live.User)
			}
		}
	}
	return r, nil
}
