package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/begin"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
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

func (s *Service) planRoutes() {
	register(s, "GET", "/revisions", "list-revisions", "All revisions, newest first", s.listRevisions)
	register(s, "GET", "/revisions/{number}", "show-revision", "One revision; 0 is the newest", s.showRevision)
	register(s, "GET", "/trial", "trial", "The revision that goes back by itself unless it is kept", s.trial)
	register(s, "POST", "/revisions/{number}/keep", "keep-revision", "Keep a revision that is on trial", s.keep)
	register(s, "GET", "/difference", "difference", "What turns one plan into another", s.difference)
	register(s, "POST", "/check", "check", "Check a document without keeping it", func(ctx context.Context, in *struct {
		Body struct {
			Text string `json:"text" lines:"many"`
		}
	},
	) (*body[Checked], error) {
		c, _, err := s.check(ctx, in.Body.Text)
		return answer(c), err
	})
	register(s, "POST", "/begin", "begin", "Propose a first plan from the things that cannot be guessed", func(_ context.Context, in *struct{ Body begin.Answers }) (*body[begin.Proposal], error) {
		p, err := begin.Plan(in.Body)
		if err != nil {
			return nil, mistaken(err)
		}
		return answer(*p), nil
	})
	register(s, "POST", "/edit", "edit", "Make edits in a document without keeping it; comments and layout around them stay", editText)
	register(s, "GET", "/drafts", "list-drafts", "All drafts", s.listDrafts)
	register(s, "GET", "/drafts/{name}", "show-draft", "One draft", s.showDraft)
	register(s, "PUT", "/drafts/{name}", "save-draft", "Write a draft", s.saveDraft)
	register(s, "POST", "/drafts/{name}/change", "change-draft", "Edit a draft in one call: version and edits in; text, findings, objects and version out", s.changeDraft)
	register(s, "DELETE", "/drafts/{name}", "delete-draft", "Forget a draft", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, known(s.Store.DeleteDraft(ctx, in.Name), "draft", in.Name)
	})
	register(s, "POST", "/drafts/{name}/rebase", "rebase-draft", "Bring a draft onto the newest revision", s.rebaseDraft)
	register(s, "GET", "/drafts/{name}/review", "review-draft", "Findings, and what a commit would do", s.reviewDraft)
	register(s, "POST", "/drafts/{name}/commit", "commit-draft", "Make the draft the newest revision, which runs at once", s.commitDraft)
}

// Named is a call about one thing by its name.
type Named struct {
	Name string `path:"name" maxLength:"64"`
}

// known turns the store's errors into the API's.
func known(err error, kind, name string) error {
	about := reason.With{reason.What: kind, reason.Name: name}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return refuse(http.StatusNotFound, reason.Of(reason.NotThere, about))
	case errors.Is(err, store.ErrExists):
		return refuse(http.StatusConflict, reason.Of(reason.ThereAlready, about))
	case errors.Is(err, store.ErrStale):
		return refuse(http.StatusConflict, reason.Of(reason.ChangedMeanwhile, about))
	}
	return err
}

func (s *Service) listDrafts(ctx context.Context, _ *struct{}) (*body[[]Draft], error) {
	ds, err := s.Store.Drafts(ctx)
	newest, _ := s.Store.Newest(ctx)
	out := make([]Draft, 0, len(ds))
	for _, d := range ds {
		out = append(out, draft(d, newest.Number))
	}
	return answer(out), err
}

func draft(d store.Draft, newest int) Draft {
	return Draft{d.Name, d.Owner, d.Base, d.Version, d.Base != newest, d.At, d.Text}
}

func (s *Service) oneDraft(ctx context.Context, name string) (Draft, error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return Draft{}, known(err, "draft", name)
	}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Draft{}, err
	}
	return draft(d, newest.Number), nil
}

func (s *Service) showDraft(ctx context.Context, in *Named) (*body[Draft], error) {
	d, err := s.oneDraft(ctx, in.Name)
	return answer(d), err
}

func (s *Service) saveDraft(ctx context.Context, in *struct {
	Named
	Body struct {
		Text    string `json:"text" lines:"many"`
		Version int    `json:"version" minimum:"0" doc:"The version that the change was made on; 0: the draft is new."`
	}
},
) (*body[Draft], error) {
	if len(in.Body.Text) > plan.MaxSize {
		return nil, huma.Error422UnprocessableEntity("the document is larger than 4 MiB")
	}
	d, err := s.keepDraft(ctx, in.Name, in.Body.Text, in.Body.Version)
	return answer(d), err
}

// keepDraft writes a draft's text, made on a version of it.
func (s *Service) keepDraft(ctx context.Context, name, text string, version int) (Draft, error) {
	d := store.Draft{Name: name, Text: text, Owner: administrator(ctx)}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Draft{}, err
	}
	d.Base = newest.Number
	if version > 0 {
		old, err := s.Store.Draft(ctx, name)
		if err != nil {
			return Draft{}, known(err, "draft", name)
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

type rebased struct {
	Draft     Draft           `json:"draft"`
	Conflicts []plan.Conflict `json:"conflicts" nullable:"false" doc:"Where both changed the same lines: the draft's own stand."`
}

func (s *Service) rebaseDraft(ctx context.Context, in *struct {
	Named
	Body *struct {
		Take []string `json:"take,omitempty" nullable:"false" maxItems:"1000" doc:"Whose lines are to stand, for each conflict in turn: ours (the draft's) or theirs (what was committed)."`
	}
},
) (*body[rebased], error) {
	d, err := s.Store.Draft(ctx, in.Name)
	if err != nil {
		return nil, known(err, "draft", in.Name)
	}
	var take []string
	if in.Body != nil {
		take = in.Body.Take
	}
	for _, side := range take {
		if side != "ours" && side != "theirs" {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("take: %q is neither ours nor theirs", side))
		}
	}
	out, err := s.rebase(ctx, d, take...)
	return answer(out), err
}

// rebase merges a draft with the newest revision. With conflicts that take does not settle nothing is written.
func (s *Service) rebase(ctx context.Context, d store.Draft, take ...string) (rebased, error) {
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return rebased{}, err
	}
	if d.Base == newest.Number {
		return rebased{draft(d, newest.Number), []plan.Conflict{}}, nil
	}
	base, err := s.Store.Revision(ctx, d.Base)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return rebased{}, err
	}
	text, conflicts := plan.Merge(base.Text, d.Text, newest.Text, take...)
	if len(conflicts) > 0 {
		return rebased{draft(d, newest.Number), conflicts}, nil
	}
	version := d.Version
	d.Text, d.Base = text, newest.Number
	d, err = s.Store.SaveDraft(ctx, d, version)
	return rebased{draft(d, newest.Number), []plan.Conflict{}}, known(err, "draft", d.Name)
}
