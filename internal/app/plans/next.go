package plans

import (
	"context"
	"errors"
	"slices"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/store"
)

// Next is one thing that is left until the first person is in and tried.
type Next struct {
	Step  string `json:"step" enum:"plan,person,commit,device,trial"`
	Words string `json:"words" doc:"What is to be done, and why."`
	Where string `json:"where" doc:"The page of the console."`
	How   string `json:"how" doc:"The command."`
}

// Next is what is left, in the order in which it is done.
func (s *Service) Next(ctx context.Context) ([]Next, error) {
	out := []Next{}
	newest, err := s.Store.Newest(ctx)
	committed := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	text := newest.Text
	if !committed {
		drafts, err := s.Store.Drafts(ctx)
		if err != nil {
			return nil, err
		}
		if len(drafts) == 0 {
			return append(out, Next{"plan", "Begin a plan: a few answers, and the rest is proposed.", "/plan", "yl start"}), nil
		}
		text = drafts[0].Text
	}
	class, err := s.somebody(ctx, text)
	if err != nil {
		return nil, err
	}
	if class == nil {
		out = append(out, Next{
			"person", "Add a person to a group that a passage admits: nobody can come in yet.", "/people", "yl users add USER --group GROUP",
		})
	}
	if !committed {
		out = append(out, Next{"commit", "Commit the plan: nothing runs before.", "/plan", "yl plan review, then yl plan commit -m WORDS"})
	}
	in, err := s.Store.Journal(ctx, store.JournalQuery{Code: string(reason.LoggedIn), Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(in) == 0 {
		out = append(out, Next{
			"device", "Give a device what it needs: the authority's certificate, the name to dial, the person's name and password.", "/plan?at=trust",
			"yl certificate authority --out FILE",
		})
	}
	tried := 0
	if committed {
		reports, err := s.Store.NewestReports(ctx, newest.Number)
		if err != nil {
			return nil, err
		}
		tried = len(reports)
	}
	if tried == 0 {
		out = append(out,
			Next{"trial", "Try it over a real tunnel, as every class of people.", "/trials", "yl probe --everyone --vantage every"})
	}
	if committed && class != nil && tried > 0 { // it is on its way: devices come when they come
		return []Next{}, nil
	}
	return out, nil
}

// somebody is a class of people that a plan admits; nil: nobody.
func (s *Service) somebody(ctx context.Context, text string) (*site.Class, error) {
	w, err := s.Wholes.Of(text)
	if err != nil {
		return nil, nil // its faults are told beside it
	}
	known, err := w.Known(ctx)
	if errors.Is(err, compiled.ErrNoGateway) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(known.Classes, func(c reach.Class) bool { return c.Passage != nil && len(c.Users) > 0 }); i >= 0 {
		return known.Classes[i].Class, nil
	}
	return nil, nil
}
