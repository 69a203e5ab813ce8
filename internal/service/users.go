package service

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

type newUser struct {
	people.User
	Password string `json:"password" maxLength:"256"`
}

// Group is a group of the running plan with its members.
type Group struct {
	Name    string   `json:"name"`
	Note    string   `json:"note,omitempty"`
	Passage string   `json:"passage" doc:"The first passage that admits it; empty: none."`
	Members []string `json:"members" nullable:"false"`
}

func (s *Service) peopleRoutes() {
	register(s, "GET", "/users", "list-users", "All users", func(ctx context.Context, in *struct {
		Filter string `query:"filter" doc:"Part of a name or group."`
	},
	) (*body[[]people.User], error) {
		all, err := s.People.List(ctx)
		out := []people.User{}
		for _, u := range all {
			if strings.Contains(u.Name+" "+u.FullName+" "+strings.Join(u.Groups, " "), in.Filter) {
				out = append(out, u)
			}
		}
		return answer(out), err
	})
	register(s, "POST", "/users", "add-user", "Add a user", func(ctx context.Context, in *struct{ Body newUser }) (*body[people.User], error) {
		if err := s.People.Add(ctx, in.Body.User, in.Body.Password); err != nil {
			return nil, invalid(err, "user", in.Body.Name)
		}
		u, err := s.People.User(ctx, in.Body.Name)
		return answer(u), err
	})
	register(s, "PUT", "/users/{name}", "change-user", "Change a user's name, groups and activity", func(ctx context.Context, in *struct {
		Named
		Body people.User
	},
	) (*body[people.User], error) {
		in.Body.Name = in.Name
		if err := s.People.Change(ctx, in.Body); err != nil {
			return nil, invalid(err, "user", in.Name)
		}
		u, err := s.People.User(ctx, in.Name)
		s.endOutdated(u)
		return answer(u), err
	})
	register(s, "PUT", "/users/{name}/password", "set-password", "Give a user a new password", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Password string `json:"password" maxLength:"256"`
		}
	},
	) (*struct{}, error) {
		return nil, invalid(s.People.SetPassword(ctx, in.Name, in.Body.Password), "user", in.Name)
	})
	register(s, "DELETE", "/users/{name}", "remove-user", "Remove a user", func(ctx context.Context, in *Named) (*struct{}, error) {
		err := s.People.Remove(ctx, in.Name)
		if err == nil {
			s.endOutdated(people.User{Name: in.Name, Off: true})
		}
		return nil, known(err, "user", in.Name)
	})
	register(s, "GET", "/groups", "list-groups", "The running plan's groups with their members", s.groups)
}

// endOutdated ends the live sessions of somebody who may no longer log in, or is in other groups now: what a session may do
// was decided by the groups at login.
func (s *Service) endOutdated(u people.User) {
	for _, live := range s.Runner.Sessions() {
		if live.User != u.Name || !u.Off && slices.Equal(slices.Sorted(slices.Values(live.Groups)), u.Groups) {
			continue
		}
		if id, err := session.ParseID(live.ID); err == nil {
			_ = s.Runner.End(id, reason.Of(reason.UserChanged, nil)) // it may have ended by itself meanwhile
		}
	}
}

// invalid tells a bad request from a fault of the store.
func invalid(err error, kind, name string) error {
	if err == nil || errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrExists) {
		return known(err, kind, name)
	}
	return mistaken(err)
}

func (s *Service) groups(ctx context.Context, _ *struct{}) (*body[[]Group], error) {
	out := []Group{}
	r, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return answer(out), nil
	}
	if err != nil {
		return nil, err
	}
	doc, err := s.docs.read(r.Text)
	if err != nil {
		return nil, err
	}
	users, err := s.People.List(ctx)
	members := map[string][]string{}
	for _, u := range users {
		for _, g := range u.Groups {
			members[g] = append(members[g], u.Name)
		}
	}
	for _, g := range doc.Plan.Groups {
		group := Group{Name: g.Name, Note: g.Note, Members: []string{}}
		for _, p := range doc.Plan.Passages {
			if group.Passage == "" && !p.Off && has(p.Groups, g.Name) {
				group.Passage = p.Name
			}
		}
		group.Members = append(group.Members, members[g.Name]...)
		out = append(out, group)
	}
	return answer(out), err
}

func has(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}
