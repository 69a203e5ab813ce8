package plans

import (
	"context"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
)

// Change is an edit of a draft, whole.
type Change struct {
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

// Change makes an edit of a draft in one call: nothing is kept if a part of it is refused.
func (s *Service) Change(ctx context.Context, name string, in Change) (Changed, error) {
	text := in.Text
	if text == "" {
		var err error
		if text, err = s.textOf(ctx, name, in.Version); err != nil {
			return Changed{}, err
		}
	}
	if err := fits(text); err != nil {
		return Changed{}, err
	}
	if len(in.Edits) > 0 {
		var err error
		if text, err = Edit(text, in.Edits); err != nil {
			return Changed{}, err
		}
	}
	d, err := s.Save(ctx, name, text, in.Version)
	if err != nil {
		return Changed{}, err
	}
	out := Changed{Draft: d}
	if out.Checked, err = s.Check(ctx, text); err != nil {
		return out, err
	}
	out.Reading, err = s.Read(text)
	return out, err
}

// textOf is what an edit is made in: the draft's text, or the newest revision's where the draft is new.
func (s *Service) textOf(ctx context.Context, name string, version int) (string, error) {
	if version == 0 {
		r, err := s.Revision(ctx, 0)
		return r.Text, err
	}
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return "", refusal.Known(err, "draft", name)
	}
	if d.Version != version {
		return "", s.staleDraft(ctx, name, d.Text)
	}
	return d.Text, nil
}
