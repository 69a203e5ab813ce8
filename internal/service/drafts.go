package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/begin"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
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

// Draft is a plan being edited.
type Draft struct {
	Name    string    `json:"name"`
	Owner   string    `json:"owner"`
	Base    int       `json:"base" doc:"The revision that it is based on; 0: none."`
	Version int       `json:"version" doc:"Counts changes; a change must name the version it was made on."`
	Behind  bool      `json:"behind" doc:"A newer revision was committed: rebase before committing."`
	At      time.Time `json:"at"`
	Text    string    `json:"text"`
}

// Checked is what is wrong with a document.
type Checked struct {
	Faults   plan.Faults     `json:"faults" nullable:"false" doc:"What keeps it from being a plan."`
	Findings []check.Finding `json:"findings" nullable:"false"`
	Stops    int             `json:"stops"`
	Warnings int             `json:"warnings"`
	Notes    int             `json:"notes"`
}

// Review is what a commit would do.
type Review struct {
	Checked
	Changes []string       `json:"changes" nullable:"false" doc:"Every object and setting that changes, in words."`
	Reach   []reach.Change `json:"reach" nullable:"false" doc:"Who gains and who loses reach."`
	Ends    []string       `json:"ends" nullable:"false" doc:"Users with a live session whose settings change."`
}

func (s *Service) planRoutes() {
	register(s, "GET", "/revisions", "list-revisions", "All revisions, newest first", s.listRevisions)
	register(s, "GET", "/revisions/{number}", "show-revision", "One revision; 0 is the newest", s.showRevision)
	register(s, "GET", "/trial", "trial", "The revision that goes back by itself unless it is kept", s.trial)
	register(s, "POST", "/revisions/{number}/keep", "keep-revision", "Keep a revision that is on trial", s.keep)
	register(s, "GET", "/difference", "difference", "What turns one plan into another", s.difference)
	register(s, "POST", "/check", "check", "Check a document without keeping it", func(ctx context.Context, in *struct {
		Body struct {
			Text string `json:"text"`
		}
	}) (*body[Checked], error) {
		c, _, err := s.check(ctx, in.Body.Text)
		return answer(c), err
	})
	register(s, "POST", "/begin", "begin", "Propose a first plan from the things that cannot be guessed", func(_ context.Context, in *struct{ Body begin.Answers }) (*body[begin.Proposal], error) {
		p, err := begin.Plan(in.Body)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		return answer(*p), nil
	})
	register(s, "POST", "/edit", "edit", "Make edits in a document without keeping it; comments and layout around them stay", editText)
	register(s, "GET", "/drafts", "list-drafts", "All drafts", s.listDrafts)
	register(s, "GET", "/drafts/{name}", "show-draft", "One draft", s.showDraft)
	register(s, "PUT", "/drafts/{name}", "save-draft", "Write a draft", s.saveDraft)
	register(s, "DELETE", "/drafts/{name}", "delete-draft", "Forget a draft", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, known(s.Store.DeleteDraft(ctx, in.Name), "draft", in.Name)
	})
	register(s, "POST", "/drafts/{name}/rebase", "rebase-draft", "Bring a draft onto the newest revision", s.rebaseDraft)
	register(s, "GET", "/drafts/{name}/review", "review-draft", "Findings, and what a commit would do", s.reviewDraft)
	register(s, "POST", "/drafts/{name}/commit", "commit-draft", "Make the draft the newest revision, which runs at once", s.commitDraft)
}

type edited struct {
	Text string `json:"text"`
}

// editText makes edits in a document; an outcome that is no plan is refused.
func editText(_ context.Context, in *struct {
	Body struct {
		Text  string      `json:"text"`
		Edits []plan.Edit `json:"edits" nullable:"false" maxItems:"500"`
	}
}) (*body[edited], error) {
	if len(in.Body.Text) > plan.MaxSize {
		return nil, huma.Error422UnprocessableEntity("the document is larger than 4 MiB")
	}
	text, err := plan.Apply(in.Body.Text, in.Body.Edits...)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return answer(edited{text}), nil
}

// Named is a call about one thing by its name.
type Named struct {
	Name string `path:"name" maxLength:"64"`
}

// known turns the store's errors into the API's.
func known(err error, kind, name string) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(fmt.Sprintf("there is no %s %q", kind, name))
	case errors.Is(err, store.ErrExists):
		return huma.Error409Conflict(fmt.Sprintf("%s %q exists already", kind, name))
	case errors.Is(err, store.ErrStale):
		return huma.Error409Conflict(fmt.Sprintf("%s %q was changed meanwhile: load it again, and make your change on that", kind, name))
	}
	return err
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
			return r, huma.Error404NotFound("no plan is committed yet: yl plan load FILE, then yl plan commit")
		}
		return r, err
	}
	r, err := s.Store.Revision(ctx, number)
	return r, known(err, "revision", fmt.Sprint(number))
}

func (s *Service) showRevision(ctx context.Context, in *struct {
	Number int `path:"number" minimum:"0"`
}) (*body[Revision], error) {
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
}) (*body[differenceAnswer], error) {
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
		return nil, nil, huma.Error422UnprocessableEntity(err.Error())
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
	return changes, reach.Changes(oldModel, now, persons), err
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

func (s *Service) listDrafts(ctx context.Context, _ *struct{}) (*body[[]Draft], error) {
	ds, err := s.Store.Drafts(ctx)
	newest, _ := s.Store.Newest(ctx)
	out := make([]Draft, 0, len(ds))
	for _, d := range ds {
		out = append(out, draft(d, newest.Number))
	}
	return answer(out), err
}

func draft(d store.Draft, newest int) Draft {
	return Draft{d.Name, d.Owner, d.Base, d.Version, d.Base != newest, d.At, d.Text}
}

func (s *Service) oneDraft(ctx context.Context, name string) (Draft, error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return Draft{}, known(err, "draft", name)
	}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Draft{}, err
	}
	return draft(d, newest.Number), nil
}

func (s *Service) showDraft(ctx context.Context, in *Named) (*body[Draft], error) {
	d, err := s.oneDraft(ctx, in.Name)
	return answer(d), err
}

func (s *Service) saveDraft(ctx context.Context, in *struct {
	Named
	Body struct {
		Text    string `json:"text"`
		Version int    `json:"version" minimum:"0" doc:"The version that the change was made on; 0: the draft is new."`
	}
}) (*body[Draft], error) {
	if len(in.Body.Text) > plan.MaxSize {
		return nil, huma.Error422UnprocessableEntity("the document is larger than 4 MiB")
	}
	d := store.Draft{Name: in.Name, Text: in.Body.Text, Owner: administrator(ctx)}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	d.Base = newest.Number
	if in.Body.Version > 0 {
		old, err := s.Store.Draft(ctx, in.Name)
		if err != nil {
			return nil, known(err, "draft", in.Name)
		}
		d.Base, d.Owner = old.Base, old.Owner
	}
	d, err = s.Store.SaveDraft(ctx, d, in.Body.Version)
	if errors.Is(err, store.ErrStale) || errors.Is(err, store.ErrExists) {
		return nil, s.staleDraft(ctx, in.Name, in.Body.Text)
	}
	if err != nil {
		return nil, err
	}
	return answer(draft(d, newest.Number)), nil
}

type rebased struct {
	Draft     Draft           `json:"draft"`
	Conflicts []plan.Conflict `json:"conflicts" nullable:"false" doc:"Where both changed the same lines: the draft's own stand."`
}

func (s *Service) rebaseDraft(ctx context.Context, in *struct {
	Named
	Body *struct {
		Take []string `json:"take,omitempty" nullable:"false" maxItems:"1000" doc:"Whose lines are to stand, for each conflict in turn: ours (the draft's) or theirs (what was committed)."`
	}
}) (*body[rebased], error) {
	d, err := s.Store.Draft(ctx, in.Name)
	if err != nil {
		return nil, known(err, "draft", in.Name)
	}
	var take []string
	if in.Body != nil {
		take = in.Body.Take
	}
	for _, side := range take {
		if side != "ours" && side != "theirs" {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("take: %q is neither ours nor theirs", side))
		}
	}
	out, err := s.rebase(ctx, d, take...)
	return answer(out), err
}

// rebase merges a draft with the newest revision. With conflicts that take does not settle nothing is written.
func (s *Service) rebase(ctx context.Context, d store.Draft, take ...string) (rebased, error) {
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return rebased{}, err
	}
	if d.Base == newest.Number {
		return rebased{draft(d, newest.Number), []plan.Conflict{}}, nil
	}
	base, err := s.Store.Revision(ctx, d.Base)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return rebased{}, err
	}
	text, conflicts := plan.Merge(base.Text, d.Text, newest.Text, take...)
	if len(conflicts) > 0 {
		return rebased{draft(d, newest.Number), conflicts}, nil
	}
	version := d.Version
	d.Text, d.Base = text, newest.Number
	d, err = s.Store.SaveDraft(ctx, d, version)
	return rebased{draft(d, newest.Number), []plan.Conflict{}}, known(err, "draft", d.Name)
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
	c.Findings = check.Run(in)
	c.Stops, c.Warnings, c.Notes = check.Count(c.Findings, check.Stop), check.Count(c.Findings, check.Warn), check.Count(c.Findings, check.Note)
	return c, doc, nil
}

func knowsZone(name string) bool {
	_, err := time.LoadLocation(name)
	return err == nil && name != "Local"
}

func (s *Service) reviewDraft(ctx context.Context, in *Named) (*body[Review], error) {
	d, err := s.oneDraft(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	r, err := s.review(ctx, d.Text)
	return answer(r), err
}

func (s *Service) review(ctx context.Context, text string) (Review, error) {
	r := Review{Changes: []string{}, Reach: []reach.Change{}, Ends: []string{}}
	var doc *plan.Document
	var err error
	if r.Checked, doc, err = s.check(ctx, text); err != nil || doc == nil {
		return r, err
	}
	before, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return r, err
	}
	changes, reaches, err := s.compare(ctx, before.Text, text)
	if err != nil {
		return r, err
	}
	for _, c := range changes {
		r.Changes = append(r.Changes, c.String())
	}
	r.Reach = reaches
	if m, err := modelOf(&doc.Plan); err == nil {
		for _, live := range s.Runner.Sessions() {
			if gateway.Outdated(m, live) != "" && !slices.Contains(r.Ends, live.User) {
				r.Ends = append(r.Ends, live.User)
			}
		}
	}
	return r, nil
}

type commitRequest struct {
	Message string       `json:"message" maxLength:"500"`
	Version int          `json:"version,omitempty" minimum:"0" doc:"The draft's version that was reviewed; 0: whatever it is now."`
	For     int          `json:"for,omitempty" minimum:"0" maximum:"604800" doc:"Seconds after which it goes back by itself unless it is kept; 0: it stays."`
	Accept  []Acceptance `json:"accept,omitempty" nullable:"false" doc:"Warnings that are accepted, each with a reason."`
}

type committed struct {
	Revision int      `json:"revision"`
	Ended    []string `json:"ended" nullable:"false" doc:"Users whose sessions were ended by the change."`
	Review   Review   `json:"review"`
}

func (s *Service) commitDraft(ctx context.Context, in *struct {
	Named
	Body commitRequest
}) (*body[committed], error) {
	s.commits.Lock()
	defer s.commits.Unlock()
	d, err := s.Store.Draft(ctx, in.Name)
	if err != nil {
		return nil, known(err, "draft", in.Name)
	}
	if in.Body.Version != 0 && in.Body.Version != d.Version {
		return nil, huma.Error409Conflict(fmt.Sprintf("draft %q is version %d, and version %d was reviewed: look at it again", d.Name, d.Version, in.Body.Version))
	}
	newest, err := s.Store.Newest(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if d.Base != newest.Number {
		return nil, s.behind(ctx, d, newest)
	}
	review, err := s.review(ctx, d.Text)
	if err != nil {
		return nil, err
	}
	if err := refusal(review.Checked, in.Body.Accept); err != nil {
		return nil, err
	}
	set, err := s.settings(ctx, d.Text)
	if err != nil {
		return nil, err
	}
	accepted, _ := json.Marshal(acceptedOf(review.Checked, in.Body.Accept))
	rec := store.Revision{Number: newest.Number + 1, Text: d.Text, Author: administrator(ctx), Message: in.Body.Message, Accepted: string(accepted), At: time.Now().UTC()}
	trial, err := s.trialOf(ctx, in.Body.For, newest.Number)
	if err != nil {
		return nil, err
	}
	if err := s.Store.AddRevision(ctx, rec, d.Name, trial); err != nil {
		return nil, known(err, "revision", fmt.Sprint(rec.Number))
	}
	ended, err := s.Runner.Apply(set)
	if err != nil { // what does not run is no revision
		if back := s.Store.DropRevision(ctx, rec.Number, d); back != nil {
			s.Log.Error("a revision that does not run could not be taken back", "revision", rec.Number, "error", back)
		}
		return nil, huma.Error422UnprocessableEntity("the gateway cannot run this plan: " + err.Error())
	}
	s.Journal(gateway.Event{Time: time.Now(), Kind: "commit", User: rec.Author, Words: fmt.Sprintf("revision %d: %s", rec.Number, rec.Message)})
	s.rebaseOthers(ctx)
	s.watchTrial(trial)
	return answer(committed{rec.Number, append([]string{}, ended...), review}), nil
}

// rebaseOthers brings every other draft onto the new revision where that goes without conflict.
func (s *Service) rebaseOthers(ctx context.Context) {
	drafts, err := s.Store.Drafts(ctx)
	if err != nil {
		return
	}
	for _, d := range drafts {
		if _, err := s.rebase(ctx, d); err != nil {
			s.Log.Warn("draft not rebased", "draft", d.Name, "error", err)
		}
	}
}

func refusal(c Checked, accept []Acceptance) error {
	if len(c.Faults) > 0 {
		return huma.Error422UnprocessableEntity("this is no plan yet: " + c.Faults.Error())
	}
	var stops, open []string
	for _, f := range c.Findings {
		switch {
		case f.Severity == check.Stop:
			stops = append(stops, fmt.Sprintf("line %d, %s: %s (mend: %s)", f.Line, f.Path, f.Problem, f.Fix))
		case f.Severity == check.Warn && reasonFor(accept, f) == "":
			open = append(open, f.ID())
		}
	}
	switch {
	case len(stops) > 0:
		return huma.Error422UnprocessableEntity("refused, nothing was changed:\n" + strings.Join(stops, "\n"))
	case len(open) > 0:
		return huma.Error422UnprocessableEntity("refused, nothing was changed: accept each warning with a reason, or mend it: " + strings.Join(open, ", "))
	}
	return nil
}

// reasonFor is why a warning is accepted; empty if it is not.
func reasonFor(accept []Acceptance, f check.Finding) string {
	for _, a := range accept {
		if a.Finding == f.ID() {
			return strings.TrimSpace(a.Reason)
		}
	}
	return ""
}

func acceptedOf(c Checked, accept []Acceptance) []Acceptance {
	out := []Acceptance{}
	for _, f := range c.Findings {
		if f.Severity == check.Warn {
			out = append(out, Acceptance{f.ID(), reasonFor(accept, f), f.Problem})
		}
	}
	return out
}

// settings is what the gateway needs to run a document.
func (s *Service) settings(ctx context.Context, text string) (gateway.Settings, error) {
	doc, err := s.docs.read(text)
	if err != nil {
		return gateway.Settings{}, huma.Error422UnprocessableEntity(err.Error())
	}
	set := gateway.Settings{Plan: &doc.Plan}
	if len(doc.Plan.Gateways) == 0 {
		return set, huma.Error422UnprocessableEntity("the plan has no gateway")
	}
	set.Gateway = doc.Plan.Gateways[0].Name
	set.Certificates = map[string]gateway.Certificate{}
	for _, t := range doc.Plan.Tunnels {
		if t.Off || t.Gateway != set.Gateway {
			continue
		}
		pair, err := s.Store.Certificate(ctx, t.Certificate)
		if err != nil {
			return set, fmt.Errorf("certificate %q: %w", t.Certificate, err)
		}
		set.Certificates[t.Certificate] = gateway.Certificate{Chain: pair.Chain(), Key: pair.Key}
	}
	return set, nil
}
