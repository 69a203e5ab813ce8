// Package members is who may come in: people and their groups, what a change of them does to their live sessions, and who has to wait after
// wrong passwords.
package members

import (
	"context"
	"crypto/x509"
	"errors"
	"slices"
	"strings"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Gateway is what is running: whose rights change loses their session.
type Gateway interface {
	Sessions() []gateway.Session
	End(id uint64, why reason.Reason) error
}

// Trust signs certificates for people's keys, and takes them back.
type Trust interface {
	OwnKey(ctx context.Context, spki []byte) (name string, taken bool)
	IssuePerson(ctx context.Context, user, device string, spki []byte) (*x509.Certificate, error)
	RevokeSerial(ctx context.Context, serial, why string) error
}

// Service keeps them.
type Service struct {
	Store   *store.Store
	People  *people.People
	Journal *journal.Service
	Wholes  *compiled.Cache
	Gateway Gateway
	Trust   Trust
	// Console counts wrong passwords of administrators.
	Console *people.Guesses
}

// Users lists those with a text in their name or groups.
func (s *Service) Users(ctx context.Context, filter string) ([]people.User, error) {
	all, err := s.People.List(ctx)
	out := []people.User{}
	for _, u := range all {
		if strings.Contains(u.Name+" "+u.FullName+" "+strings.Join(u.Groups, " "), filter) {
			out = append(out, u)
		}
	}
	return out, err
}

// Add adds a user.
func (s *Service) Add(ctx context.Context, u people.User, password string) (people.User, error) {
	if err := s.People.Add(ctx, u, password); err != nil {
		return people.User{}, invalid(err, u.Name)
	}
	return s.People.User(ctx, u.Name)
}

// Change changes a user's name, groups and activity.
func (s *Service) Change(ctx context.Context, u people.User) (people.User, error) {
	if err := s.People.Change(ctx, u); err != nil {
		return people.User{}, invalid(err, u.Name)
	}
	u, err := s.People.User(ctx, u.Name)
	s.endOutdated(u)
	return u, err
}

// SetPassword gives a user a new password.
func (s *Service) SetPassword(ctx context.Context, name, password string) error {
	return invalid(s.People.SetPassword(ctx, name, password), name)
}

// Remove removes a user, and ends what is live of theirs.
func (s *Service) Remove(ctx context.Context, name string) error {
	err := s.People.Remove(ctx, name)
	if err == nil {
		s.endOutdated(people.User{Name: name, Off: true})
	}
	return refusal.Known(err, "user", name)
}

// endOutdated ends the live sessions of somebody who may no longer log in, or is in other groups now: what a session may do
// was decided by the groups at login.
func (s *Service) endOutdated(u people.User) {
	for _, live := range s.Gateway.Sessions() {
		if live.User != u.Name || !u.Off && slices.Equal(slices.Sorted(slices.Values(live.Groups)), u.Groups) {
			continue
		}
		if id, err := session.ParseID(live.ID); err == nil {
			_ = s.Gateway.End(id, reason.Of(reason.UserChanged, nil)) // it may have ended by itself meanwhile
		}
	}
}

// invalid tells a bad request from a fault of the store.
func invalid(err error, name string) error {
	if err == nil || errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrExists) {
		return refusal.Known(err, "user", name)
	}
	return refusal.Mistaken(err)
}

// Group is a group of the running plan with its members.
type Group struct {
	Name    string   `json:"name"`
	Note    string   `json:"note,omitempty"`
	Passage string   `json:"passage" doc:"The first passage that admits it; empty: none."`
	Members []string `json:"members" nullable:"false"`
}

// Groups lists the running plan's groups with their members.
func (s *Service) Groups(ctx context.Context) ([]Group, error) {
	out := []Group{}
	r, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	doc, err := s.Wholes.Read(r.Text)
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
			if group.Passage == "" && !p.Off && slices.Contains(p.Groups, g.Name) {
				group.Passage = p.Name
			}
		}
		group.Members = append(group.Members, members[g.Name]...)
		out = append(out, group)
	}
	return out, err
}
