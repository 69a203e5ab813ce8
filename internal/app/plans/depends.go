package plans

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/refusal"
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

// Surplus is what people reach that no expectation asks for, by the newest revision or a draft.
func (s *Service) Surplus(ctx context.Context, draft string) (SurplusAnswer, error) {
	w, _, err := s.Whole(ctx, draft)
	if err != nil {
		return SurplusAnswer{}, err
	}
	pinned, err := w.Pinned(ctx)
	return SurplusAnswer{pinned.Surplus, pinned.Pins}, refusal.Mistaken(err)
}

// Dependences says what depends on each rule, NAT entry and route with the filter in its path.
func (s *Service) Dependences(ctx context.Context, draft, filter string) ([]reach.Dependence, error) {
	w, _, err := s.Whole(ctx, draft)
	if err != nil {
		return nil, err
	}
	known, err := w.Known(ctx)
	if err != nil {
		return nil, refusal.Mistaken(err)
	}
	wanted := func(setting string) bool { return strings.Contains(strings.ToLower(setting), strings.ToLower(filter)) }
	how := func(ctx context.Context, r *computing.Run) ([]reach.Dependence, error) {
		d := known.Depending(wanted)
		if err := r.Do(ctx, "what depends on each setting", d); err != nil {
			return nil, err
		}
		return d.Dependences(), nil
	}
	return s.dependences.Get(ctx, s.Desk(), w.Name(), depending{known, filter}, how)
}

// depending is of what dependences are: of the settings with the filter in their path.
type depending struct {
	known  *reach.Known
	filter string
}

// Depends compares a plan with itself without a setting: what can be switched off is, anything else is taken out.
func (s *Service) Depends(ctx context.Context, text, setting string) (Depends, error) {
	out := Depends{Setting: setting, Reach: []reach.Change{}, Fails: []reach.Result{}}
	doc, err := s.Wholes.Read(text)
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	if name, ok := strings.CutPrefix(setting, "rules/"); ok {
		for _, r := range doc.Plan.Rules {
			if r.Name != name || r.Hours == "" {
				continue
			}
			if text, err = plan.Apply(text, plan.Edit{Op: "remove", Path: setting + "/hours"}); err != nil {
				return out, err
			}
			out.Hours = r.Hours
		}
	}
	without, err := plan.Apply(text, plan.Edit{Op: "set", Path: setting + "/off", Value: "true"})
	if err != nil || strings.Count(setting, "/") != 1 {
		if without, err = plan.Apply(text, plan.Edit{Op: "remove", Path: setting}); err != nil {
			return out, refusal.Invalid(fmt.Sprintf("there is no plan without %s to compare with: %v", setting, err))
		}
	}
	other, err := plan.Read(without) // not by the cache: nobody looks at it again
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	w, err := s.Wholes.Of(text)
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	known, errNow := w.Known(ctx)
	then, errThen := compiled.Model(&other.Plan)
	if errors.Is(errNow, compiled.ErrNoGateway) || errThen != nil {
		return out, refusal.Invalid("without a gateway nothing is reached")
	}
	if errNow != nil {
		return out, errNow
	}
	changed := known.Again(then, known.People())
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
