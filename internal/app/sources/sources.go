// Package sources keeps the plan's sources of people at hand: directories that are asked at logins, and tried before anybody relies on
// them.
package sources

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people/directory"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// Service keeps them.
type Service struct {
	Store   *store.Store
	Running *running.Service
	Plans   *plans.Service

	mu   sync.Mutex
	kept map[string]kept // by name
}

type kept struct {
	settings string // of the source, as they were
	source   source.Source
}

// Sources implements people.Sources: those of the plan that runs, in its order.
func (s *Service) Sources() (out []source.Source) {
	p := s.Running.Plan()
	if p == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	names := map[string]bool{}
	for i := range p.Sources {
		src := p.Sources[i]
		if src.Off {
			continue
		}
		names[src.Name] = true
		b, _ := json.Marshal(src)
		have, ok := s.kept[src.Name]
		if !ok || have.settings != string(b) {
			made, err := s.open(src)
			if err != nil { // a commit has looked at it
				continue
			}
			if ok {
				have.source.Close()
			}
			if s.kept == nil {
				s.kept = map[string]kept{}
			}
			have = kept{string(b), made}
			s.kept[src.Name] = have
		}
		out = append(out, have.source)
	}
	for name, k := range s.kept {
		if !names[name] {
			k.source.Close()
			delete(s.kept, name)
		}
	}
	return out
}

// Names are all that the plan has, also those that are switched off; false: no plan runs yet.
func (s *Service) Names() (out []string, runs bool) {
	p := s.Running.Plan()
	if p == nil {
		return nil, false
	}
	for i := range p.Sources {
		out = append(out, p.Sources[i].Name)
	}
	return out, true
}

// open opens a source as its kind is asked.
func (s *Service) open(src plan.Source) (source.Source, error) {
	switch src.Kind {
	case plan.KindLDAP:
		return directory.New(src, s.secret(src.Secret))
	case plan.KindRADIUS:
		return remote.New(src, remote.Secrets{Shared: s.secret(src.Secret), Certificate: s.certificate(src.RADIUS().Certificate)}, nil)
	}
	return nil, fmt.Errorf("there are no sources of kind %q", src.Kind)
}

// Keep asks those sources whether they can be asked of whom nothing was heard for a while, so that it is known before somebody needs them.
func (s *Service) Keep(ctx context.Context) {
	var all sync.WaitGroup
	for _, src := range s.Sources() {
		if time.Since(src.State().At) >= probeEvery {
			all.Go(func() { src.Probe(ctx) })
		}
	}
	all.Wait()
}

const probeEvery = time.Minute

// Groups implements people.Sources.
func (s *Service) Groups() []string {
	if p := s.Running.Plan(); p != nil {
		return groupsOf(p)
	}
	return nil
}

func groupsOf(p *plan.Plan) (out []string) {
	for _, g := range p.Groups {
		out = append(out, g.Name)
	}
	return out
}

func (s *Service) secret(name string) func(context.Context) (string, error) {
	return func(ctx context.Context) (string, error) {
		if name == "" {
			return "", errors.New("the plan names none: say secret")
		}
		b, err := s.Store.Shared(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			return "", fmt.Errorf("it is not kept: yl secret keep %s --kind password --from-file FILE", name)
		}
		return string(b), err
	}
}

// certificate is one of the service's, by name.
func (s *Service) certificate(name string) func(context.Context) (*tls.Certificate, error) {
	return func(ctx context.Context) (*tls.Certificate, error) {
		pair, err := s.Store.Certificate(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("the certificate %s: %w", name, err)
		}
		return &tls.Certificate{Certificate: pair.Chain(), PrivateKey: pair.Key, Leaf: pair.Leaf}, nil
	}
}

// SourceTrial is what came of trying a source.
type SourceTrial struct {
	OK      bool           `json:"ok"`
	Words   string         `json:"words" doc:"What came of it, or why nothing did."`
	Fix     string         `json:"fix,omitempty"`
	Steps   []source.Asked `json:"steps" nullable:"false" doc:"What was done, with what came of it."`
	Person  string         `json:"person,omitempty" doc:"Whom it was about, by their name there."`
	User    string         `json:"user,omitempty" doc:"Who would come in."`
	There   []string       `json:"there" nullable:"false" doc:"Their groups there."`
	Groups  []string       `json:"groups" nullable:"false" doc:"Which of the plan's they make."`
	Passage string         `json:"passage,omitempty" doc:"Which takes them."`
}

// Try tries a source of what runs, or of a draft: everything up to the person, with a password their login too.
func (s *Service) Try(ctx context.Context, draft, name, user, password string) (SourceTrial, error) {
	out := SourceTrial{Steps: []source.Asked{}, There: []string{}, Groups: []string{}}
	w, _, err := s.Plans.Whole(ctx, draft)
	if err != nil {
		return out, err
	}
	m, err := w.Model()
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	src := m.Names.Sources[name]
	if src == nil {
		return out, refusal.Missing(fmt.Sprintf("there is no source %q in the plan", name))
	}
	at, err := s.open(*src)
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	defer at.Close()
	step := func(x source.Asked) { out.Steps = append(out.Steps, x) }
	var who source.Person
	switch {
	case password != "":
		who, err = at.Login(ctx, source.Call{User: user, Password: password}, step)
	case at.Looks() || src.Kind == plan.KindLDAP:
		who, err = at.Look(ctx, user, step)
	default:
		return out, refusal.Mistaken(fmt.Errorf("source %s judges logins alone: give the password of %s as well (yl sources try --login)",
			name, user))
	}
	if err != nil {
		out.Words, out.Fix = err.Error(), fixes[source.KindOf(err)]
		return out, nil
	}
	out.Person, out.User = who.Name, who.Login
	for _, g := range who.Groups {
		out.There = append(out.There, g.Name)
	}
	out.Groups = append(out.Groups, source.Taken(*src, who.Groups, groupsOf(m.Plan))...)
	class := m.Class(out.Groups)
	switch {
	case len(out.Groups) == 0:
		out.Words = fmt.Sprintf("%s is found, and none of their groups (%s) is one of the plan's", who.Login, orNone(out.There))
		out.Fix = "say under groups of source " + name + " which of its groups is which of the plan's"
	case class.Passage == nil:
		out.Words = fmt.Sprintf("%s is found, in %s, and no passage admits that", who.Login, strings.Join(out.Groups, ", "))
		out.Fix = "let a passage admit one of these groups"
	default:
		out.OK, out.Passage = true, class.Passage.Name
		out.Words = fmt.Sprintf("%s is found, in %s, and comes in by passage %s", who.Login, strings.Join(out.Groups, ", "), out.Passage)
		if by := Tunnels(m.Plan, src.Kind, class.Passage.Tunnels); len(by) == 0 {
			out.OK = false
			out.Words += ", if not by a password: by none of its tunnels the source could judge one"
			out.Fix = "say login: eap-ttls at a tunnel of the passage, or have them come by certificates"
		}
	}
	return out, nil
}

// Tunnels are those of some that people of a kind of source can log in by with a password.
func Tunnels(p *plan.Plan, kind string, of []string) (out []string) {
	for _, t := range p.Tunnels {
		if !t.Off && slices.Contains(of,
			t.Name) && slices.ContainsFunc(t.Logins(),
			func(way string) bool { return plan.Judges(kind, way) }) {
			out = append(out, t.Name)
		}
	}
	return out
}

func orNone(words []string) string {
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

// fixes are what to do about each kind of error.
var fixes = map[source.Kind]string{
	source.Away:     "look at the server, its name, its certificate and what stands in between; a RADIUS server must know this client",
	source.Account:  "set account and secret to what the server has, and keep the secret: yl secret keep",
	source.Unknown:  "look at base, login-by and filter, or at the spelling",
	source.Several:  "choose a login-by or a filter that finds one entry alone",
	source.Wrong:    "let them type it again",
	source.Refused:  "let them type it again; the server's own record says why",
	source.Barred:   "mend it there",
	source.Mistaken: "correct what the plan says of it",
}
