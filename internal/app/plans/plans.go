// Package plans is what is done with plans before they run: drafts and their edits, what is found in them, how they differ, what a commit
// of one would do, and what is left until the first person is in.
package plans

import (
	"context"
	"fmt"
	"log/slog"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Gateway is what is running, as far as it is asked about.
type Gateway interface {
	Sessions() []gateway.Session
	Inside() inside.Observed
	// Preview is what a plan would make of the gateway's machine.
	Preview(p *plan.Plan, gateway string) (inside.Preview, error)
}

// Service does it.
type Service struct {
	Store   *store.Store
	People  *people.People
	Wholes  *compiled.Cache
	Gateway Gateway
	Log     *slog.Logger
	// Stands tells whether an administrator is one still, and brings their role up to date.
	Stands func(context.Context, *store.Administrator) bool
	// Kits tells what a plan in place of another changes for kits that people have; nil: nobody knows.
	Kits func(ctx context.Context, was, now *reach.Known) ([]KitChange, error)

	dependences computing.Shared[depending, []reach.Dependence]
}

// Whole gives the newest revision with its number, or a draft, if its name is given: its number is 0.
func (s *Service) Whole(ctx context.Context, draft string) (w *compiled.Whole, number int, err error) {
	text, name := "", "draft "+draft
	if draft != "" {
		d, err := s.Store.Draft(ctx, draft)
		if err != nil {
			return nil, 0, refusal.Known(err, "draft", draft)
		}
		text = d.Text
	} else {
		r, err := s.Revision(ctx, 0)
		if err != nil {
			return nil, 0, err
		}
		text, number, name = r.Text, r.Number, fmt.Sprintf("revision %d", r.Number)
	}
	w, err = s.Wholes.Called(name, text)
	return w, number, refusal.Mistaken(err)
}

// Desk knows what is being worked out just now.
func (s *Service) Desk() *computing.Desk { return &s.Wholes.Desk }

// Size tells how large the newest revision, or a draft, is for whoever works it out, before it is.
func (s *Service) Size(ctx context.Context, draft string) (compiled.Size, error) {
	w, _, err := s.Whole(ctx, draft)
	if err != nil {
		return compiled.Size{}, err
	}
	out, err := w.Size(ctx)
	return out, refusal.Mistaken(err)
}

// Machine tells what the newest revision, or a draft, would make of the gateway's machine, and makes nothing.
func (s *Service) Machine(ctx context.Context, draft string) (inside.Preview, error) {
	w, _, err := s.Whole(ctx, draft)
	if err != nil {
		return inside.Preview{}, err
	}
	m, err := w.Model()
	if err != nil {
		return inside.Preview{}, refusal.Mistaken(err)
	}
	out, err := s.Gateway.Preview(m.Plan, m.Gateway.Name)
	return out, refusal.Mistaken(err)
}

// Known gives what is computed of the newest revision, or of a draft.
func (s *Service) Known(ctx context.Context, draft string) (*reach.Known, int, error) {
	w, number, err := s.Whole(ctx, draft)
	if err != nil {
		return nil, 0, err
	}
	known, err := w.Known(ctx)
	return known, number, refusal.Mistaken(err)
}
