package service

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/check"
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

type edited struct {
	Text string `json:"text"`
}

// editText makes edits in a document; an outcome that is no plan is refused.
func editText(_ context.Context, in *struct {
	Body struct {
		Text  string      `json:"text" lines:"many"`
		Edits []plan.Edit `json:"edits" nullable:"false" maxItems:"500"`
	}
},
) (*body[edited], error) {
	if len(in.Body.Text) > plan.MaxSize {
		return nil, huma.Error422UnprocessableEntity("the document is larger than 4 MiB")
	}
	text, err := plan.Apply(in.Body.Text, in.Body.Edits...)
	if err != nil {
		return nil, mistaken(err)
	}
	return answer(edited{text}), nil
}

// check reads a document and makes all findings. A document that cannot be read is no error: its faults are the answer.
func (s *Service) check(ctx context.Context, text string) (Checked, *plan.Document, error) {
	c := Checked{Faults: plan.Faults{}, Findings: []check.Finding{}}
	doc, err := s.docs.read(text)
	if err != nil {
		fs, ok := plan.AsFaults(err)
		if !ok {
			return c, nil, err
		}
		c.Faults, c.Stops = fs, len(fs)
		return c, nil, nil
	}
	persons, err := s.People.Persons(ctx)
	if err != nil {
		return c, nil, err
	}
	in := check.Input{Doc: doc, People: persons, Now: time.Now(), Secrets: map[string]bool{}, KnowsZone: knowsZone}
	if in.Certificates, in.Authority, err = s.trusted(ctx); err != nil {
		return c, nil, err
	}
	if in.Administrators, err = s.Store.AdministratorNames(ctx); err != nil {
		return c, nil, err
	}
	shared, err := s.Store.AllShared(ctx)
	if err != nil {
		return c, nil, err
	}
	for _, x := range shared {
		in.Secrets[x.Name] = true
	}
	in.Known = s.known.Load()
	findings, known := check.RunAgain(in)
	c.Findings = append(findings, s.insideFindings(doc)...)
	if known != nil {
		s.known.Store(known)
	}
	c.Stops, c.Warnings, c.Notes = check.Count(c.Findings, check.Stop), check.Count(c.Findings, check.Warn),
		check.Count(c.Findings, check.Note)
	return c, doc, nil
}

// insideFindings are about what is not as the running plan wants it on the inside: no change of the plan mends it, and yet it is what keeps
// people from reaching anything.
func (s *Service) insideFindings(doc *plan.Document) (out []check.Finding) {
	for _, p := range s.Runner.Inside().Problems {
		if p.Code == reason.NothingRunsHere { // the plan is not committed yet
			continue
		}
		path := "gateways"
		if len(doc.Plan.Gateways) > 0 {
			path += "/" + doc.Plan.Gateways[0].Name + "/inside"
		}
		out = append(out, check.Finding{
			Severity: check.Note, Code: string(p.Code), Path: path, Line: doc.Place(path).Line, Problem: p.Words,
			Fix: "it is mended where the service runs: yl status shows how it is",
		})
	}
	return out
}

func knowsZone(name string) bool {
	_, err := time.LoadLocation(name)
	return err == nil && name != "Local"
}
