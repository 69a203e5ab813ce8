package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/plan"
)

// change is an edit of a draft, whole.
type change struct {
	Version int         `json:"version" minimum:"0" doc:"The version that it is made on; 0: the draft is new, and begins with the newest revision."`
	Text    string      `json:"text,omitempty" lines:"many" doc:"In place of the draft's text; not given: that."`
	Edits   []plan.Edit `json:"edits,omitempty" nullable:"false" maxItems:"500" doc:"Edits of the text, in order; comments and layout around them stay."`
}

// Changed is a draft after an edit, with everything that whoever edits wants to know of it.
type Changed struct {
	Draft   Draft   `json:"draft"`
	Checked Checked `json:"checked" doc:"Its findings."`
	Reading Reading `json:"reading" doc:"Its objects."`
}

// changeDraft makes an edit in one call: nothing is kept if a part of it is refused.
func (s *Service) changeDraft(ctx context.Context, in *struct {
	Named
	Body change
},
) (*body[Changed], error) {
	text := in.Body.Text
	if text == "" {
		var err error
		if text, err = s.textOf(ctx, in.Name, in.Body.Version); err != nil {
			return nil, err
		}
	}
	if len(text) > plan.MaxSize {
		return nil, huma.Error422UnprocessableEntity("the document is larger than 4 MiB")
	}
	if len(in.Body.Edits) > 0 {
		var err error
		if text, err = plan.Apply(text, in.Body.Edits...); err != nil {
			return nil, mistaken(err)
		}
	}
	d, err := s.keepDraft(ctx, in.Name, text, in.Body.Version)
	if err != nil {
		return nil, err
	}
	out := Changed{Draft: d}
	if out.Checked, _, err = s.check(ctx, text); err != nil {
		return nil, err
	}
	out.Reading, err = s.reading(text)
	return answer(out), err
}

// textOf is what an edit is made in: the draft's text, or the newest revision's where the draft is new.
func (s *Service) textOf(ctx context.Context, name string, version int) (string, error) {
	if version == 0 {
		r, err := s.revisionOrNewest(ctx, 0)
		return r.Text, err
	}
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return "", known(err, "draft", name)
	}
	if d.Version != version {
		return "", s.staleDraft(ctx, name, d.Text)
	}
	return d.Text, nil
}
