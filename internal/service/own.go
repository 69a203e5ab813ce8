package service

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Ended is how many sessions, or tokens, ended.
type Ended struct {
	Ended int `json:"ended"`
}

func (s *Service) ownPassword(ctx context.Context, in *struct {
	Body struct {
		Password string `json:"password" maxLength:"256" lines:"many" doc:"The one that holds now."`
		New      string `json:"new" maxLength:"256" lines:"many" doc:"The one that is to hold from now on."`
	}
},
) (*body[Ended], error) {
	name := administrator(ctx)
	if err := s.verify(ctx, Credentials{name, in.Body.Password}); err != nil {
		return nil, err
	}
	if len([]rune(in.Body.New)) < leastAdmin {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("give a password of at least %d characters", leastAdmin))
	}
	done, ok := s.turns.take(ctx, source(ctx))
	if !ok {
		return nil, huma.Error429TooManyRequests("too many sign-ins at once from there: try again in a moment")
	}
	hash := hashPassword(in.Body.New)
	done()
	ended, err := s.Store.SetAdministratorPassword(ctx, name, hash, credential(ctx))
	if err != nil {
		return nil, known(err, "administrator", name)
	}
	for _, h := range ended {
		s.credentials.end(h)
	}
	s.tell(reason.Of(reason.PasswordChanged, reason.With{reason.Administrator: name, reason.Count: strconv.Itoa(len(ended))}), name)
	return answer(Ended{len(ended)}), nil
}

// OwnSession is a browser in which an administrator is signed in.
type OwnSession struct {
	ID      string    `json:"id"`
	From    string    `json:"from,omitempty"`
	At      time.Time `json:"at,omitzero"`
	Expires time.Time `json:"expires"`
	This    bool      `json:"this,omitempty" doc:"It is the one that asks."`
}

func (s *Service) ownSessions(ctx context.Context, _ *struct{}) (*body[[]OwnSession], error) {
	out := []OwnSession{}
	all, err := s.Store.ConsoleSessions(ctx, administrator(ctx))
	for _, c := range all {
		out = append(out, OwnSession{c.Hash[:tokenIDLen], c.From, c.At, c.Expires, c.Hash == credential(ctx)})
	}
	return answer(out), err
}

func (s *Service) endOwnSession(ctx context.Context, in *Named) (*struct{}, error) {
	all, err := s.Store.ConsoleSessions(ctx, administrator(ctx))
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		if c.Hash[:tokenIDLen] == in.Name {
			err := s.Store.EndConsoleSession(ctx, c.Hash)
			s.credentials.end(c.Hash)
			return nil, err
		}
	}
	return nil, known(store.ErrNotFound, "session", in.Name)
}
