package plans

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Revision is a committed plan.
type Revision struct {
	Number   int          `json:"number"`
	Author   string       `json:"author"`
	Message  string       `json:"message"`
	At       time.Time    `json:"at"`
	Accepted []Acceptance `json:"accepted" nullable:"false" doc:"Warnings that were accepted, each with its reason."`
	Text     string       `json:"text,omitempty" doc:"The document."`
}

// AllFindings accepts every warning that is not accepted by itself.
const AllFindings = "all"

// Acceptance is a warning that somebody accepted.
type Acceptance struct {
	Finding string `json:"finding" doc:"The warning, as code@path; all: those that are not named, for there may be more than are listed."`
	Reason  string `json:"reason" minLength:"3" maxLength:"300" doc:"Why it is accepted; it stays with the revision."`
	Problem string `json:"problem,omitempty" doc:"What was found, in words; written by the service."`
	// Revision is kept, so that it is known after years of changes to other things.
	Revision int `json:"revision,omitempty" doc:"With which revision it was accepted, where that was an earlier one; written by the service."`
}

// RevisionOf is a record as it is told.
func RevisionOf(r store.Revision) Revision {
	out := Revision{Number: r.Number, Author: r.Author, Message: r.Message, At: r.At, Text: r.Text, Accepted: []Acceptance{}}
	if json.Unmarshal([]byte(r.Accepted), &out.Accepted) != nil { // older revisions have the names alone
		var names []string
		_ = json.Unmarshal([]byte(r.Accepted), &names)
		out.Accepted = []Acceptance{}
		for _, n := range names {
			out.Accepted = append(out.Accepted, Acceptance{Finding: n})
		}
	}
	return out
}

// Revisions lists all revisions, newest first.
func (s *Service) Revisions(ctx context.Context) ([]Revision, error) {
	rs, err := s.Store.Revisions(ctx)
	out := make([]Revision, 0, len(rs))
	for _, r := range rs {
		out = append(out, RevisionOf(r))
	}
	return out, err
}

// Revision finds a revision; 0 is the newest.
func (s *Service) Revision(ctx context.Context, number int) (store.Revision, error) {
	if number == 0 {
		r, err := s.Store.Newest(ctx)
		if errors.Is(err, store.ErrNotFound) {
			return r, refusal.Because(refusal.NotThere, reason.Of(reason.NoPlanYet, nil))
		}
		return r, err
	}
	r, err := s.Store.Revision(ctx, number)
	return r, refusal.Known(err, "revision", fmt.Sprint(number))
}

// Difference is what turns one plan into another.
type Difference struct {
	Changes []plan.Change  `json:"changes" nullable:"false"`
	Reach   []reach.Change `json:"reach" nullable:"false"`
}

// Difference compares two revisions, 0 being the newest, or one with a draft, if its name is given.
func (s *Service) Difference(ctx context.Context, from, to int, draft string) (Difference, error) {
	before, err := s.Revision(ctx, from)
	if err != nil {
		return Difference{}, err
	}
	text := ""
	if draft != "" {
		d, err := s.Store.Draft(ctx, draft)
		if err != nil {
			return Difference{}, refusal.Known(err, "draft", draft)
		}
		text = d.Text
	} else {
		after, err := s.Revision(ctx, to)
		if err != nil {
			return Difference{}, err
		}
		text = after.Text
	}
	c, err := s.compare(ctx, before.Text, text)
	return Difference{c.changes, c.reaches}, err
}

// compared is how two documents differ, and who gains and loses reach; was and now are nil where a document has no gateway.
type compared struct {
	changes  []plan.Change
	reaches  []reach.Change
	was, now *reach.Known
}

// compare compares two documents. before may be empty.
func (s *Service) compare(ctx context.Context, before, after string) (compared, error) {
	var old plan.Plan
	var was *reach.Known
	if before != "" {
		w, err := s.Wholes.Of(before)
		if err != nil {
			return compared{}, refusal.Invalid("the older document cannot be read: " + err.Error())
		}
		old = w.Doc.Plan
		if was, err = w.Known(ctx); err != nil && !errors.Is(err, compiled.ErrNoGateway) {
			return compared{}, err
		}
	}
	w, err := s.Wholes.Of(after)
	if err != nil {
		return compared{}, refusal.Mistaken(err)
	}
	changes := append([]plan.Change{}, plan.Difference(old, w.Doc.Plan)...)
	now, err := w.Known(ctx)
	if errors.Is(err, compiled.ErrNoGateway) {
		return compared{changes: changes, reaches: []reach.Change{}}, nil
	}
	if err != nil {
		return compared{changes: changes, reaches: []reach.Change{}}, err
	}
	return compared{changes, reach.ChangesBetween(was, now), was, now}, nil
}
