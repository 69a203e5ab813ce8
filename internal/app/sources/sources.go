// Package sources keeps the plan's sources of people at hand: directories that are asked at logins, and tried before anybody relies on
// them.
package sources

import (
	"context"
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
	d        *directory.Directory
}

// Sources implements people.Sources: those of the plan that runs, in its order.
func (s *Service) Sources() (out []*directory.Directory) {
	p := s.Running.Plan()
	if p == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	names := map[string]bool{}
	for i := range p.Sources {
		src := p.Sources[i]
		names[src.Name] = true
		if src.Off || src.Kind != plan.KindLDAP {
			continue
		}
		b, _ := json.Marshal(src)
		have, ok := s.kept[src.Name]
		if !ok || have.settings != string(b) {
			d, err := directory.New(src, s.secret(src.Secret))
			if err != nil { // a commit has looked at it
				continue
			}
			if ok {
				have.d.Close()
			}
			if s.kept == nil {
				s.kept = map[string]kept{}
			}
			have = kept{string(b), d}
			s.kept[src.Name] = have
		}
		out = append(out, have.d)
	}
	for name, k := range s.kept {
		if !names[name] {
			k.d.Close()
			delete(s.kept, name)
		}
	}
	return out
}

// Keep asks those sources whether they can be asked of whom nothing was heard for a while, so that it is known before somebody needs them.
func (s *Service) Keep(ctx context.Context) {
	var all sync.WaitGroup
	for _, d := range s.Sources() {
		if time.Since(d.State().At) >= probeEvery {
			all.Go(func() { d.Probe(ctx) })
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

// SourceTrial is what came of trying a source.
type SourceTrial struct {
	OK      bool              `json:"ok"`
	Words   string            `json:"words" doc:"What came of it, or why nothing did."`
	Fix     string            `json:"fix,omitempty"`
	Steps   []directory.Asked `json:"steps" nullable:"false" doc:"What was done, with what came of it."`
	Person  string            `json:"person,omitempty" doc:"Whom it was about, by their name there."`
	User    string            `json:"user,omitempty" doc:"Who would come in."`
	There   []string          `json:"there" nullable:"false" doc:"Their groups there."`
	Groups  []string          `json:"groups" nullable:"false" doc:"Which of the plan's they make."`
	Passage string            `json:"passage,omitempty" doc:"Which takes them."`
}

// Try tries a source of what runs, or of a draft: everything up to the person, with a password their login too.
func (s *Service) Try(ctx context.Context, draft, name, user, password string) (SourceTrial, error) {
	out := SourceTrial{Steps: []directory.Asked{}, There: []string{}, Groups: []string{}}
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
	d, err := directory.New(*src, s.secret(src.Secret))
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	defer d.Close()
	step := func(x directory.Asked) { out.Steps = append(out.Steps, x) }
	var who directory.Person
	if password == "" {
		who, err = d.Look(ctx, user, step)
	} else {
		who, err = d.Login(ctx, user, password, step)
	}
	if err != nil {
		out.Words, out.Fix = err.Error(), fixes[directory.KindOf(err)]
		return out, nil
	}
	out.Person, out.User = who.DN, who.Login
	for _, g := range who.Groups {
		out.There = append(out.There, g.Name)
	}
	out.Groups = append(out.Groups, directory.Taken(*src, who.Groups, groupsOf(m.Plan))...)
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
		if by := byPassword(m.Plan, class.Passage.Tunnels); len(by) == 0 {
			out.OK = false
			out.Words += ", if not by a password: none of its tunnels hands one over"
			out.Fix = "say login: eap-ttls at a tunnel of the passage, or have them come by certificates"
		}
	}
	return out, nil
}

// byPassword are the tunnels that a source's people can log in by with their password.
func byPassword(p *plan.Plan, tunnels []string) (out []string) {
	for _, t := range p.Tunnels {
		if !t.Off && slices.Contains(t.Logins(), plan.LoginTTLS) && slices.Contains(tunnels, t.Name) {
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
var fixes = map[directory.Kind]string{
	directory.Away:     "look at the server, its name, its certificate and what stands in between",
	directory.Account:  "set account to its whole distinguished name, and keep its password: yl secret keep",
	directory.Unknown:  "look at base, login-by and filter, or at the spelling",
	directory.Several:  "choose a login-by or a filter that finds one entry alone",
	directory.Wrong:    "let them type it again",
	directory.Barred:   "mend it in the directory",
	directory.Mistaken: "correct what the plan says of it",
}
