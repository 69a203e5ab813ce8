// Package changes does what RADIUS servers ask for while sessions of their people last: an end, or other groups and limits (RFC 5176).
package changes

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/radius"
)

const (
	stale       = 5 * time.Minute // a request that says that it is older, or newer, is not looked at (RFC 5176 §6.3)
	mostAnswers = 1024            // that are remembered, for requests that come again
	toldEvery   = time.Minute     // that somebody sends what does not count
	answerTime  = 10 * time.Second
)

// Gateway is whose sessions they are.
type Gateway interface {
	Live() ([]gateway.Session, error)
	End(id uint64, why reason.Reason) error
}

// Service does it.
type Service struct {
	People  *people.People
	Sources *sources.Service
	Gateway Gateway
	// Settle holds a person's live sessions against what is known of them now.
	Settle func(ctx context.Context, user string)
	Log    *slog.Logger

	mu   sync.Mutex
	open map[string]*listener // by source
}

// Problems are sources of which nothing is taken, although the plan says so, and why.
func (s *Service) Problems() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]string{}
	for name, l := range s.open {
		if l.problem != "" {
			out[name] = l.problem
		}
	}
	return out
}

// Keep listens where the plan that runs says.
func (s *Service) Keep(ctx context.Context) {
	want := map[string]*remote.Server{}
	for _, x := range s.Sources.Sources() {
		if r, ok := x.(*remote.Server); ok && r.Changes().IsValid() {
			want[x.Settings().Name] = r
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, l := range s.open {
		if r := want[name]; r == nil || r.Changes() != l.at || l.conn == nil {
			l.close()
			delete(s.open, name)
		} else {
			l.source.Store(r)
		}
	}
	for name, r := range want {
		if s.open[name] != nil {
			continue
		}
		if s.open == nil {
			s.open = map[string]*listener{}
		}
		l := &listener{s: s, at: r.Changes(), answers: map[key]kept{}}
		l.source.Store(r)
		s.open[name] = l
		conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(l.at))
		if err != nil {
			l.problem = err.Error()
			continue
		}
		l.conn = conn
		l.done.Go("changes.Keep", l.serve)
	}
}

// Close ends it.
func (s *Service) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, l := range s.open {
		l.close()
		delete(s.open, name)
	}
}

// sessions are a source's that a request is about; an error says why nobody knows.
func (s *Service) sessions(ctx context.Context, r *remote.Server, about radius.About) ([]gateway.Session, error) {
	live, err := s.Gateway.Live()
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(live, func(x gateway.Session) bool {
		name, _ := s.People.Accounted(ctx, x.User)
		return name != r.Settings().Name || !about.Fits(radius.Known{ID: x.ID, User: x.User, Addresses: x.Addresses, From: fromOf(x)})
	}), nil
}

func fromOf(x gateway.Session) netip.Addr {
	at, _ := netip.ParseAddrPort(x.From)
	return at.Addr()
}

// end ends sessions for a source.
func (s *Service) end(r *remote.Server, all []gateway.Session) error {
	why := reason.Of(reason.EndedBySource, reason.With{reason.Source: r.Settings().Name})
	var err error
	for _, x := range all {
		id, wrong := session.ParseID(x.ID)
		if wrong == nil {
			wrong = s.Gateway.End(id, why)
		}
		err = errors.Join(err, wrong)
	}
	return err
}
