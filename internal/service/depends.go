package service

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

// SurplusAnswer is what is reached and not expected.
type SurplusAnswer struct {
	Surplus []reach.Surplus `json:"surplus" nullable:"false"`
	Pins    []reach.Pin     `json:"pins" nullable:"false" doc:"Expectations that would make of it what is meant."`
}

// Depends is what would be without a setting.
type Depends struct {
	Setting string         `json:"setting"`
	Hours   string         `json:"hours,omitempty" doc:"The hours of the rule, within which this is so."`
	Reach   []reach.Change `json:"reach" nullable:"false" doc:"Who would gain and lose reach."`
	Fails   []reach.Result `json:"fails" nullable:"false" doc:"Expectations that hold, and would no longer."`
}

func (s *Service) dependsRoutes() {
	register(s, "GET", "/surplus", "surplus", "What people reach that no expectation asks for", func(ctx context.Context, in *Drafted) (*body[SurplusAnswer], error) {
		m, _, persons, err := s.model(ctx, in.Draft)
		if err != nil {
			return nil, err
		}
		surplus, pins := reach.Surpluses(m, persons)
		return answer(SurplusAnswer{surplus, pins}), nil
	})
	register(s, "GET", "/depends", "dependences", "What depends on each rule, NAT entry and route; what nothing depends on", func(ctx context.Context, in *struct {
		Drafted
		Filter string `query:"filter" doc:"Only settings with this text."`
	},
	) (*body[[]reach.Dependence], error) {
		m, _, persons, err := s.model(ctx, in.Draft)
		if err != nil {
			return nil, err
		}
		out := reach.Dependences(s.compute(m, persons), func(setting string) bool { return holdsText(in.Filter, setting) },
			func() bool { return ctx.Err() != nil })
		return answer(out), ctx.Err()
	})
	register(s, "POST", "/depends", "depends", "Which reach and which expectations depend on a setting of a document", func(ctx context.Context, in *struct {
		Body struct {
			Text    string `json:"text" lines:"many"`
			Setting string `json:"setting" doc:"An object, item or field, such as rules/archive."`
		}
	},
	) (*body[Depends], error) {
		d, err := s.depends(ctx, in.Body.Text, in.Body.Setting)
		return answer(d), err
	})
}

// depends compares a plan with itself without a setting: what can be switched off is, anything else is taken out.
func (s *Service) depends(ctx context.Context, text, setting string) (Depends, error) {
	out := Depends{Setting: setting, Reach: []reach.Change{}, Fails: []reach.Result{}}
	doc, err := s.docs.read(text)
	if err != nil {
		return out, mistaken(err)
	}
	if name, ok := strings.CutPrefix(setting, "rules/"); ok {
		for _, r := range doc.Plan.Rules {
			if r.Name != name || r.Hours == "" {
				continue
			}
			if text, err = plan.Apply(text, plan.Edit{Op: "remove", Path: setting + "/hours"}); err != nil {
				return out, err
			}
			if doc, err = s.docs.read(text); err != nil {
				return out, err
			}
			out.Hours = r.Hours
		}
	}
	without, err := plan.Apply(text, plan.Edit{Op: "set", Path: setting + "/off", Value: "true"})
	if err != nil || strings.Count(setting, "/") != 1 {
		if without, err = plan.Apply(text, plan.Edit{Op: "remove", Path: setting}); err != nil {
			return out, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no plan without %s to compare with: %v", setting, err))
		}
	}
	other, err := s.docs.read(without)
	if err != nil {
		return out, mistaken(err)
	}
	persons, err := s.People.Persons(ctx)
	if err != nil {
		return out, err
	}
	now, errNow := modelOf(&doc.Plan)
	then, errThen := modelOf(&other.Plan)
	if errNow != nil || errThen != nil {
		return out, huma.Error422UnprocessableEntity("without a gateway nothing is reached")
	}
	known := s.compute(now, persons)
	changed := known.Again(then, persons)
	out.Reach = reach.ChangesBetween(known, changed)
	held := map[string]bool{}
	for _, r := range known.Proof.Results {
		held[r.Expectation+"\x00"+r.Class] = r.Outcome == reach.Holds
	}
	for _, r := range changed.Proof.Results {
		if r.Outcome != reach.Holds && held[r.Expectation+"\x00"+r.Class] {
			out.Fails = append(out.Fails, r)
		}
	}
	return out, nil
}
