package service

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/gateway"
)

func (s *Service) watchRoutes() {
	register(s, "GET", "/sessions", "list-sessions", "Live sessions", func(context.Context, *struct{}) (*body[[]gateway.Session], error) {
		return answer(append([]gateway.Session{}, s.Runner.Sessions()...)), nil
	})
	register(s, "DELETE", "/sessions/{id}", "end-session", "End a live session", func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*struct{}, error) {
		id, err := gateway.ParseID(in.ID)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		if err := s.Runner.End(id, "ended by administrator "+administrator(ctx)); err != nil {
			return nil, huma.Error404NotFound(err.Error())
		}
		return nil, nil
	})
	register(s, "GET", "/status", "status", "What the gateway has counted", func(context.Context, *struct{}) (*body[gateway.Status], error) {
		return answer(s.Runner.Status()), nil
	})
	register(s, "GET", "/journal", "journal", "The newest lines of the journal, newest first", s.journal)
}

func (s *Service) journal(ctx context.Context, in *struct {
	Kind  string `query:"kind" doc:"Only lines of this kind: login, refused, ended, rule, commit, trust, name, reach."`
	User  string `query:"user" doc:"Only lines about this user."`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}) (*body[[]gateway.Event], error) {
	records, err := s.Store.Journal(ctx, in.Kind, in.User, in.Limit)
	out := make([]gateway.Event, 0, len(records))
	for _, r := range records {
		out = append(out, gateway.Event{Time: r.At.Truncate(time.Millisecond), Kind: r.Kind, User: r.User, From: r.From, Words: r.Words, Code: r.Code, Offered: r.Offered, Wanted: r.Wanted})
	}
	return answer(out), err
}
