package access

import (
	"context"
	"strconv"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// ChangePassword changes one's own; every other session and token of one's own ends. It gives how many did.
func (s *Service) ChangePassword(ctx context.Context, old, next, code string) (int, error) {
	name := actor.Name(ctx)
	a, _, err := s.verify(ctx, Credentials{Name: name, Password: old, Code: code})
	if err != nil {
		return 0, err
	}
	if a.Source != "" {
		return 0, refusal.Conflict("your password is that of source " + a.Source + ": change it there")
	}
	if err := password.Check(next, leastAdmin, name); err != nil {
		return 0, refusal.Mistaken(err)
	}
	done, ok := s.turns.take(ctx, actor.Of(ctx).From)
	if !ok {
		return 0, busy()
	}
	hash, err := s.hashed(next)
	done()
	if err != nil {
		return 0, err
	}
	ended, err := s.Store.SetAdministratorPassword(ctx, name, hash, actor.Of(ctx).Credential, false)
	if err != nil {
		return 0, refusal.Known(err, "administrator", name)
	}
	for _, h := range ended {
		s.credentials.end(h)
	}
	s.Journal.Tell(reason.Of(reason.PasswordChanged, reason.With{reason.Administrator: name, reason.Count: strconv.Itoa(len(ended))}), name)
	return len(ended), nil
}

// OwnSession is a browser in which an administrator is signed in.
type OwnSession struct {
	ID      string    `json:"id"`
	From    string    `json:"from,omitempty"`
	At      time.Time `json:"at,omitzero"`
	Expires time.Time `json:"expires"`
	This    bool      `json:"this,omitempty" doc:"It is the one that asks."`
}

// OwnSessions lists where one is signed in to the console.
func (s *Service) OwnSessions(ctx context.Context) ([]OwnSession, error) {
	out := []OwnSession{}
	all, err := s.Store.ConsoleSessions(ctx, actor.Name(ctx))
	for _, c := range all {
		out = append(out, OwnSession{c.Hash[:tokenIDLen], c.From, c.At, c.Expires, c.Hash == actor.Of(ctx).Credential})
	}
	return out, err
}

// EndOwnSession signs a browser of one's own out.
func (s *Service) EndOwnSession(ctx context.Context, id string) error {
	all, err := s.Store.ConsoleSessions(ctx, actor.Name(ctx))
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Hash[:tokenIDLen] == id {
			err := s.Store.EndConsoleSession(ctx, c.Hash)
			s.credentials.end(c.Hash)
			return err
		}
	}
	return refusal.Known(store.ErrNotFound, "session", id)
}
