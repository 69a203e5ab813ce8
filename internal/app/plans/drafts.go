package plans

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// Draft is a plan being edited.
type Draft struct {
	Name    string    `json:"name"`
	Owner   string    `json:"owner"`
	Base    int       `json:"base" doc:"The revision that it is based on; 0: none."`
	Version int       `json:"version" doc:"Counts changes; a change must name the version it was made on."`
	Behind  bool      `json:"behind" doc:"A newer revision was committed: rebase before committing."`
	At      time.Time `json:"at"`
	Text    string    `json:"text"`
}

// Drafts lists all drafts.
func (s *Service) Drafts(ctx context.Context) ([]Draft, error) {
	ds, err := s.Store.Drafts(ctx)
	newest, _ := s.Store.Newest(ctx)
	out := make([]Draft, 0, len(ds))
	for _, d := range ds {
		out = append(out, draft(d, newest.Number))
	}
	return out, err
}

func draft(d store.Draft, newest int) Draft {
	return Draft{d.Name, d.Owner, d.Base, d.Version, d.Base != newest, d.At, d.Text}
}

// Draft finds one.
func (s *Service) Draft(ctx context.Context, name string) (Draft, error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return Draft{}, refusal.Known(err, "draft", name)
	}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Draft{}, err
	}
	return draft(d, newest.Number), nil
}

// Save writes a draft's text, made on a version of it; 0: the draft is new.
func (s *Service) Save(ctx context.Context, name, text string, version int) (Draft, error) {
	if err := fits(text); err != nil {
		return Draft{}, err
	}
	d := store.Draft{Name: name, Text: text, Owner: actor.Name(ctx)}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Draft{}, err
	}
	d.Base = newest.Number
	if version > 0 {
		old, err := s.Store.Draft(ctx, name)
		if err != nil {
			return Draft{}, refusal.Known(err, "draft", name)
		}
		d.Base, d.Owner = old.Base, old.Owner
	}
	d, err = s.Store.SaveDraft(ctx, d, version)
	if errors.Is(err, store.ErrStale) || errors.Is(err, store.ErrExists) {
		return Draft{}, s.staleDraft(ctx, name, text)
	}
	if err != nil {
		return Draft{}, err
	}
	return draft(d, newest.Number), nil
}

// Remove forgets a draft.
func (s *Service) Remove(ctx context.Context, name string) error {
	return refusal.Known(s.Store.DeleteDraft(ctx, name), "draft", name)
}

// Rebased is a draft after it was brought onto the newest revision.
type Rebased struct {
	Draft     Draft           `json:"draft"`
	Conflicts []plan.Conflict `json:"conflicts" nullable:"false" doc:"Where both changed the same lines: the draft's own stand."`
}

// Rebase brings a draft onto the newest revision. take says whose lines are to stand, for each conflict in turn: ours (the draft's) or
// theirs.
func (s *Service) Rebase(ctx context.Context, name string, take ...string) (Rebased, error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return Rebased{}, refusal.Known(err, "draft", name)
	}
	for _, side := range take {
		if side != "ours" && side != "theirs" {
			return Rebased{}, refusal.Invalid(fmt.Sprintf("take: %q is neither ours nor theirs", side))
		}
	}
	return s.rebase(ctx, d, take...)
}

// RebaseAll brings every draft onto the newest revision where that goes without conflict.
func (s *Service) RebaseAll(ctx context.Context) {
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

// rebase merges a draft with the newest revision. With conflicts that take does not settle nothing is written.
func (s *Service) rebase(ctx context.Context, d store.Draft, take ...string) (Rebased, error) {
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Rebased{}, err
	}
	if d.Base == newest.Number {
		return Rebased{draft(d, newest.Number), []plan.Conflict{}}, nil
	}
	base, err := s.Store.Revision(ctx, d.Base)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Rebased{}, err
	}
	text, conflicts := plan.Merge(base.Text, d.Text, newest.Text, take...)
	if len(conflicts) > 0 {
		return Rebased{draft(d, newest.Number), conflicts}, nil
	}
	version := d.Version
	d.Text, d.Base = text, newest.Number
	d, err = s.Store.SaveDraft(ctx, d, version)
	return Rebased{draft(d, newest.Number), []plan.Conflict{}}, refusal.Known(err, "draft", d.Name)
}
