package plans

import (
	"cmp"
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
	// Accepted need no acceptance.
	Accepted []Acceptance     `json:"accepted" nullable:"false" doc:"Warnings that were accepted before, and of which nothing changed since: they stay accepted."`
	Unjudged []reach.Unjudged `json:"unjudged" nullable:"false" doc:"Expectations that the change touches, and that no trial can judge: a commit with a trial wants that said."`
	Kits     []KitChange      `json:"kits" nullable:"false" doc:"What it changes for kits that people have: those that stop working first."`
	First    []ComesIn        `json:"first,omitempty" nullable:"false" doc:"Of the first plan, in place of a list of everything in it: who comes in how, and reaches what."`

	known compared
}

// KitChange is what a change of the plan means for a kit that somebody has.
type KitChange struct {
	User     string `json:"user"`
	Platform string `json:"platform"`
	Stops    bool   `json:"stops" doc:"Their device cannot connect with it any more; otherwise it goes on, with settings that are not the newest."`
	Why      string `json:"why" doc:"Why it stops; otherwise which settings are others."`
}

// NotJudged are the expectations that the change touches and that a trial of these classes cannot judge; none: of everybody.
func (r *Review) NotJudged(only []string) []reach.Unjudged {
	if r.known.was == nil || r.known.now == nil {
		return []reach.Unjudged{}
	}
	return r.known.was.Unjudged(r.known.now, only)
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
	r := Review{
		Changes: []string{}, Reach: []reach.Change{}, Ends: []string{}, Accepted: []Acceptance{}, Unjudged: []reach.Unjudged{},
		Kits: []KitChange{},
	}
	var err error
	if r.Checked, err = s.Check(ctx, text); err != nil || len(r.Faults) > 0 {
		return r, err
	}
	before, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return r, err
	}
	compared, err := s.compare(ctx, before.Text, text)
	if err != nil {
		return r, err
	}
	r.known = compared
	r.Unjudged = r.NotJudged(nil)
	if s.Kits != nil {
		if r.Kits, err = s.Kits(ctx, compared.was, compared.now); err != nil {
			return r, err
		}
		slices.SortStableFunc(r.Kits, func(a, b KitChange) int { return cmp.Compare(rank(a.Stops), rank(b.Stops)) })
	}
	for _, c := range compared.changes {
		r.Changes = append(r.Changes, c.String())
	}
	r.Reach, r.Accepted = compared.reaches, carried(r.Findings, before, compared.changes)
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

// rank puts what stops first.
func rank(stops bool) int {
	if stops {
		return 0
	}
	return 1
}
