package plans

import (
	"context"
	"slices"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/outline"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

// Checked is what is wrong with a document.
type Checked struct {
	Faults   plan.Faults     `json:"faults" nullable:"false" doc:"What keeps it from being a plan."`
	Findings []check.Finding `json:"findings" nullable:"false"`
	Stops    int             `json:"stops"`
	Warnings int             `json:"warnings"`
	Notes    int             `json:"notes"`
}

// Edit makes edits in a document; an outcome that is no plan is refused.
func Edit(text string, edits []plan.Edit) (string, error) {
	if err := fits(text); err != nil {
		return "", err
	}
	out, err := plan.Apply(text, edits...)
	return out, refusal.Mistaken(err)
}

func fits(text string) error {
	if len(text) > plan.MaxSize {
		return refusal.Invalid("the document is larger than 4 MiB")
	}
	return nil
}

// Check reads a document and makes all findings. A document that cannot be read is no error: its faults are the answer.
func (s *Service) Check(ctx context.Context, text string) (Checked, error) {
	c := Checked{Faults: plan.Faults{}, Findings: []check.Finding{}}
	w, err := s.Wholes.Of(text)
	if err != nil {
		fs, ok := plan.AsFaults(err)
		if !ok {
			return c, err
		}
		c.Faults, c.Stops = fs, len(fs)
		return c, nil
	}
	found, err := w.Findings(ctx)
	if err != nil {
		return c, err
	}
	c.Findings = append(slices.Clone(found), s.insideFindings(w.Doc)...)
	c.Stops, c.Warnings, c.Notes = check.Count(c.Findings, check.Stop), check.Count(c.Findings, check.Warn),
		check.Count(c.Findings, check.Note)
	return c, nil
}

// insideFindings are about what is not as the running plan wants it on the inside: no change of the plan mends it, and yet it is what keeps
// people from reaching anything.
func (s *Service) insideFindings(doc *plan.Document) (out []check.Finding) {
	for _, p := range s.Gateway.Inside().Problems {
		if p.Code == reason.NothingRunsHere { // the plan is not committed yet
			continue
		}
		path := "gateways"
		if len(doc.Plan.Gateways) > 0 {
			path += "/" + doc.Plan.Gateways[0].Name + "/inside"
		}
		out = append(out, check.Finding{
			Severity: check.Note, Code: string(p.Code), Path: path, Step: outline.StepOf(path), Line: doc.Place(path).Line, Problem: p.Words,
			Fix: "it is mended where the service runs: yl status shows how it is",
		})
	}
	return out
}
