package service

import (
	"context"
	"slices"
	"strings"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/gateway"
)

// Reading is a document read into its objects.
type Reading struct {
	Faults  plan.Faults    `json:"faults" nullable:"false" doc:"What keeps it from being a plan; then there are no objects."`
	Plan    plan.Plan      `json:"plan" doc:"The objects as they are written."`
	Settled []plan.Passage `json:"settled" nullable:"false" doc:"The passages with what they take from their gateway's defaults."`
	// Taken tells which is which.
	Taken map[string]string `json:"taken" doc:"Where each setting that a passage takes from elsewhere stands, by its path."`
	Lines map[string]int    `json:"lines" doc:"The line of each object, by its path."`
}

func (s *Service) objectRoutes() {
	register(s, "GET", "/forms", "forms", "What the objects of a plan are made of, for drawing forms", func(context.Context, *struct{}) (*body[[]plan.Form], error) {
		return answer(plan.Forms()), nil
	})
	register(s, "POST", "/read", "read", "Read a document into its objects without keeping it", func(_ context.Context, in *struct {
		Body struct {
			Text string `json:"text" lines:"many"`
		}
	},
	) (*body[Reading], error) {
		r, err := s.reading(in.Body.Text)
		return answer(r), err
	})
	register(s, "POST", "/uses", "uses", "What names an object of a document", func(_ context.Context, in *struct {
		Body struct {
			Text   string `json:"text" lines:"many"`
			Object string `json:"object" doc:"Such as hosts/records."`
		}
	},
	) (*body[[]string], error) {
		doc, err := s.docs.read(in.Body.Text)
		if err != nil {
			return nil, mistaken(err)
		}
		return answer(uses(&doc.Plan, in.Body.Object)), nil
	})
	register(s, "GET", "/pools", "list-pools", "What the running plan's pools have leased, what is kept, and what is free", func(_ context.Context, in *struct {
		Filter string `query:"filter" doc:"Part of a pool's name, a holder's, or an address."`
	},
	) (*body[[]gateway.Pool], error) {
		out := []gateway.Pool{}
		for _, p := range s.Runner.Pools() {
			kept := p.Leases[:0]
			for _, l := range p.Leases {
				if in.Filter == "" || strings.Contains(p.Name+" "+l.Holder+" "+l.Address.String(), in.Filter) {
					kept = append(kept, l)
				}
			}
			p.Leases = kept
			if len(kept) > 0 || strings.Contains(p.Name, in.Filter) {
				out = append(out, p)
			}
		}
		return answer(out), nil
	})
}

func (s *Service) reading(text string) (Reading, error) {
	r := Reading{Faults: plan.Faults{}, Settled: []plan.Passage{}, Taken: map[string]string{}, Lines: map[string]int{}}
	doc, err := s.docs.read(text)
	if err != nil {
		fs, ok := plan.AsFaults(err)
		if !ok {
			return r, err
		}
		r.Faults = fs
		return r, nil
	}
	settled, taken := doc.Plan.Settle()
	r.Plan, r.Taken = doc.Plan, taken
	r.Settled = append(r.Settled, settled.Passages...)
	kinds, lists := plan.Objects(doc.Plan)
	for _, kind := range kinds {
		for i := range lists[kind].Len() {
			path := kind + "/" + lists[kind].Index(i).FieldByName("Name").String()
			r.Lines[path] = doc.Place(path).Line
		}
	}
	return r, nil
}

// uses lists the settings that name an object, given as kind and name.
func uses(p *plan.Plan, object string) []string {
	kind, name, _ := strings.Cut(object, "/")
	out := []string{}
	for _, m := range p.Mentions() {
		if m.Word == name && slices.Contains(m.Kinds, kind) {
			out = append(out, m.Path)
		}
	}
	return out
}
