package service

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/plan"
)

// removal forgets something that revisions refer to by name.
type removal struct {
	Named
	EvenSo bool `query:"even-so" doc:"Also where earlier revisions need it: nobody can go back to those."`
}

// needed refuses to let go of what revisions need: what runs, or is gone back to from a trial, always; earlier ones unless it is said that
// nobody will go back to them.
func (s *Service) needed(ctx context.Context, in *removal, kind string, by func(*plan.Plan) []string) error {
	trial, err := s.Store.OnTrial(ctx)
	back := 0
	if err == nil {
		back = trial.Back
	}
	numbers, err := s.Store.RevisionsThatSay(ctx, in.Name)
	if err != nil {
		return err
	}
	var earlier []string
	for i, n := range numbers { // the newest first
		r, err := s.Store.Revision(ctx, n)
		if err != nil {
			return err
		}
		doc, err := s.docs.read(r.Text)
		if err != nil {
			continue // nobody can go back to what cannot be read
		}
		users := by(&doc.Plan)
		newest, err := s.Store.NewestNumber(ctx)
		switch {
		case err != nil:
			return err
		case len(users) == 0:
		case n == newest:
			return huma.Error409Conflict(fmt.Sprintf("%s of the running plan needs it: commit a plan without it first", users[0]))
		case n == back:
			return huma.Error409Conflict(fmt.Sprintf(
				"revision %d is on trial, and revision %d, to which it goes back by itself, needs this %s: wait, or keep it (yl plan keep)",
				trial.Revision, n, kind))
		case i < mostNamed:
			earlier = append(earlier, fmt.Sprint(n))
		}
	}
	if len(earlier) > 0 && !in.EvenSo {
		return huma.Error409Conflict(fmt.Sprintf(
			"revisions %s need this %s, and nobody can go back to them without it: say even-so if that is meant",
			strings.Join(earlier, ", "), kind))
	}
	return nil
}

const mostNamed = 20 // revisions that are named in an answer

func tunnelsOf(certificate string) func(*plan.Plan) []string {
	return func(p *plan.Plan) (out []string) {
		for _, t := range p.Tunnels {
			if !t.Off && t.Certificate == certificate {
				out = append(out, "tunnel "+t.Name)
			}
		}
		return out
	}
}

func gatewaysOf(secret string) func(*plan.Plan) []string {
	return func(p *plan.Plan) (out []string) {
		for _, g := range p.Gateways {
			if g.Outside.Update != nil && g.Outside.Update.Key == secret {
				out = append(out, "gateway "+g.Name)
			}
		}
		return out
	}
}
