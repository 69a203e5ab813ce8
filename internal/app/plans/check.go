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
	Left     int             `json:"left-out,omitempty" doc:"Findings beyond those that are listed, which are the gravest; the numbers count all."`
}

// What one answer lists of findings: so many, of texts of so many octets.
const (
	mostFindings    = 1000
	mostOfFindings  = 768 << 10
	besidesFindings = 200 // of one, beside its texts
)

// Listed is what one answer holds of it: a bounded number of findings, the gravest.
func (c Checked) Listed() Checked {
	grave := map[check.Severity]int{check.Stop: 0, check.Warn: 1, check.Note: 2}
	kept, size := slices.Clone(c.Findings), 0
	if len(kept) > mostFindings {
		slices.SortStableFunc(kept, func(a, b check.Finding) int { return grave[a.Severity] - grave[b.Severity] })
		kept = kept[:mostFindings]
	}
	for i := range kept {
		f := &kept[i]
		f.Problem, f.Fix = plan.Short(f.Problem), plan.Short(f.Fix)
		size += len(f.Path) + len(f.Problem) + len(f.Fix) + besidesFindings
		for _, e := range f.Mend {
			size += len(e.Path) + len(e.Value)
		}
		if size > mostOfFindings && i > 0 {
			kept = kept[:i]
			break
		}
	}
	c.Findings, c.Left = kept, len(c.Findings)-len(kept)
	return c
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
	sent, err := s.secretFindings(ctx, w.Doc)
	if err != nil {
		return c, err
	}
	c.Findings = append(c.Findings, sent...)
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
