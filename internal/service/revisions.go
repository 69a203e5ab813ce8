package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Revision is a committed plan.
type Revision struct {
	Number   int          `json:"number"`
	Author   string       `json:"author"`
	Message  string       `json:"message"`
	At       time.Time    `json:"at"`
	Accepted []Acceptance `json:"accepted" nullable:"false" doc:"Warnings that were accepted, each with its reason."`
	Text     string       `json:"text,omitempty" doc:"The document."`
}

// Acceptance is a warning that somebody accepted.
type Acceptance struct {
	Finding string `json:"finding" doc:"The warning, as code@path."`
	Reason  string `json:"reason" minLength:"3" maxLength:"300" doc:"Why it is accepted; it stays with the revision."`
	Problem string `json:"problem,omitempty" doc:"What was found, in words; written by the service."`
}

func revision(r store.Revision) Revision {
	out := Revision{Number: r.Number, Author: r.Author, Message: r.Message, At: r.At, Text: r.Text, Accepted: []Acceptance{}}
	if json.Unmarshal([]byte(r.Accepted), &out.Accepted) != nil { // older revisions have the names alone
		var names []string
		_ = json.Unmarshal([]byte(r.Accepted), &names)
		out.Accepted = []Acceptance{}
		for _, n := range names {
			out.Accepted = append(out.Accepted, Acceptance{Finding: n})
		}
	}
	return out
}

func (s *Service) listRevisions(ctx context.Context, _ *struct{}) (*body[[]Revision], error) {
	rs, err := s.Store.Revisions(ctx)
	out := make([]Revision, 0, len(rs))
	for _, r := range rs {
		out = append(out, revision(r))
	}
	return answer(out), err
}

// revisionOrNewest finds a revision; 0 is the newest.
func (s *Service) revisionOrNewest(ctx context.Context, number int) (store.Revision, error) {
	if number == 0 {
		r, err := s.Store.Newest(ctx)
		if errors.Is(err, store.ErrNotFound) {
			return r, refuse(http.StatusNotFound, reason.Of(reason.NoPlanYet, nil))
		}
		return r, err
	}
	r, err := s.Store.Revision(ctx, number)
	return r, known(err, "revision", fmt.Sprint(number))
}

func (s *Service) showRevision(ctx context.Context, in *struct {
	Number int `path:"number" minimum:"0"`
},
) (*body[Revision], error) {
	r, err := s.revisionOrNewest(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	return answer(revision(r)), nil
}

type differenceAnswer struct {
	Changes []plan.Change  `json:"changes" nullable:"false"`
	Reach   []reach.Change `json:"reach" nullable:"false"`
}

func (s *Service) difference(ctx context.Context, in *struct {
	From  int    `query:"from" doc:"Revision; 0: the newest." minimum:"0"`
	To    int    `query:"to" doc:"Revision; 0: the newest." minimum:"0"`
	Draft string `query:"draft" doc:"In place of to: a draft."`
},
) (*body[differenceAnswer], error) {
	from, err := s.revisionOrNewest(ctx, in.From)
	if err != nil {
		return nil, err
	}
	text := ""
	if in.Draft != "" {
		d, err := s.Store.Draft(ctx, in.Draft)
		if err != nil {
			return nil, known(err, "draft", in.Draft)
		}
		text = d.Text
	} else {
		to, err := s.revisionOrNewest(ctx, in.To)
		if err != nil {
			return nil, err
		}
		text = to.Text
	}
	changes, reaches, err := s.compare(ctx, from.Text, text)
	return answer(differenceAnswer{changes, reaches}), err
}

// compare gives the differences between two documents, and who gains and loses reach. before may be empty.
func (s *Service) compare(ctx context.Context, before, after string) ([]plan.Change, []reach.Change, error) {
	var old plan.Plan
	var oldModel *site.Model
	if before != "" {
		d, err := s.docs.read(before)
		if err != nil {
			return nil, nil, huma.Error422UnprocessableEntity("the older document cannot be read: " + err.Error())
		}
		old = d.Plan
		oldModel, _ = modelOf(&d.Plan)
	}
	d, err := s.docs.read(after)
	if err != nil {
		return nil, nil, mistaken(err)
	}
	changes := plan.Difference(old, d.Plan)
	if changes == nil {
		changes = []plan.Change{}
	}
	now, err := modelOf(&d.Plan)
	if err != nil {
		return changes, []reach.Change{}, nil
	}
	persons, err := s.People.Persons(ctx)
	if err != nil {
		return changes, []reach.Change{}, err
	}
	var known *reach.Known
	if oldModel != nil {
		known = s.compute(oldModel, persons)
	}
	return changes, reach.ChangesBetween(known, s.compute(now, persons)), nil
}

func modelOf(p *plan.Plan) (*site.Model, error) {
	if len(p.Gateways) == 0 {
		return nil, errors.New("the plan has no gateway")
	}
	m, err := site.Compile(p, p.Gateways[0].Name)
	if err != nil {
		return nil, err
	}
	if zone, err := gateway.Zone(p); err == nil { // an unknown zone is a finding of its own
		m.In(zone)
	}
	return m, nil
}
