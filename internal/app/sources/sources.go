// Package sources keeps the plan's sources of people at hand: directories that are asked at logins, and tried before anybody relies on
// them.
package sources

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people"
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
	Journal *journal.Service
	// Guesses throttles the passwords that administrators try, as those of logins are.
	Guesses *people.Guesses

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
			made, err := s.open(src, s.secret(src.Secret))
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
func (s *Service) open(src plan.Source, secret func(context.Context) (string, error)) (source.Source, error) {
	switch src.Kind {
	case plan.KindLDAP:
		return directory.New(src, secret)
	case plan.KindRADIUS:
		return remote.New(src, remote.Secrets{Shared: secret, Certificate: s.certificate(src.RADIUS().Certificate)}, nil)
	}
	return nil, fmt.Errorf("there are no sources of kind %q", src.Kind)
}

// Keep asks those sources whether they can be asked of whom nothing was heard for a while, so that it is known before somebody needs them.
func (s *Service) Keep(ctx context.Context) {
	var all guard.Group
	for _, src := range s.Sources() {
		if time.Since(src.State().At) >= probeEvery {
			all.Go("sources.Keep", func() { src.Probe(ctx) })
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
