package plans

import (
	"slices"
	"strings"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/outline"
	"yellowlantern/internal/core/plan"
)

// Reading is a document read into its objects.
type Reading struct {
	Faults  plan.Faults    `json:"faults" nullable:"false" doc:"What keeps it from being a plan; then there are no objects."`
	Plan    plan.Plan      `json:"plan" doc:"The objects as they are written."`
	Settled []plan.Passage `json:"settled" nullable:"false" doc:"The passages with what they take from their gateway's defaults."`
	// Taken tells which is which.
	Taken map[string]string `json:"taken" doc:"Where each setting that a passage takes from elsewhere stands, by its path."`
	Lines map[string]int    `json:"lines" doc:"The line of each object, by its path."`
	outline.Outline
}

// Read reads a document into its objects. Faults are part of the answer.
func (s *Service) Read(text string) (Reading, error) {
	r := Reading{
		Faults: plan.Faults{}, Settled: []plan.Passage{}, Taken: map[string]string{}, Lines: map[string]int{}, Outline: outline.Of(&plan.Plan{}),
	}
	doc, err := s.Wholes.Read(text)
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
	r.Outline = outline.Of(&doc.Plan)
	kinds, lists := plan.Objects(doc.Plan)
	for _, kind := range kinds {
		for i := range lists[kind].Len() {
			path := kind + "/" + lists[kind].Index(i).FieldByName("Name").String()
			r.Lines[path] = doc.Place(path).Line
		}
	}
	return r, nil
}

// Uses lists the settings of a document that name an object, given as kind and name, such as hosts/records.
func (s *Service) Uses(text, object string) ([]string, error) {
	doc, err := s.Wholes.Read(text)
	if err != nil {
		return nil, refusal.Mistaken(err)
	}
	return uses(&doc.Plan, object), nil
}

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
