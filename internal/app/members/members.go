// Package members is who may come in: people and their groups, what a change of them does to their live sessions, and who has to wait after
// wrong passwords.
package members

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/enrol"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Gateway is what is running: whose rights change loses their session.
type Gateway interface {
	Live() ([]gateway.Session, error)
	End(id uint64, why reason.Reason) error
	Limit(user string, l login.Limits) error
}

// Trust signs certificates for people's keys, and takes them back.
type Trust interface {
	OwnKey(ctx context.Context, spki []byte) (name string, taken bool)
	Enrolment(ctx context.Context) (enrol.Recipient, *x509.Certificate, error)
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
	// At is where people's devices reach what is open to them; empty: not known.
	At      func() string
	refused refusedEnrolments
	// Plan is what runs.
	Plan func() *plan.Plan
	// Mail sends people mail; nil: nobody does. Background does something beside whoever asks for it.
	Mail       Mailer
	Background func(func(context.Context))
	helped     helped
	// settled is one more than the version of people that live sessions were held against; 0: of none yet.
	settled atomic.Uint64
	// Console counts wrong passwords of administrators.
	Console *people.Guesses
	// Trials counts wrong passwords of trials of sources.
	Trials *people.Guesses
}

// mostShown is how many people one page holds at most.
const mostShown = 10_000

// Users gives a page of those with a text in their name, mail address or groups.
func (s *Service) Users(ctx context.Context, text, after string, most int) (people.Page, error) {
	return s.People.Page(ctx, text, after, min(max(most, 1), mostShown))
}

// User finds one.
func (s *Service) User(ctx context.Context, name string) (people.User, error) {
	u, err := s.People.User(ctx, name)
	return u, refusal.Known(err, "user", name)
}

// Added is a user who was added.
type Added struct {
	people.User
	Password string `json:"password,omitempty" doc:"The one that was made, where none was given: it is shown here alone, and counts only until another is chosen."`
}

// Add adds a user; without a password one is made.
func (s *Service) Add(ctx context.Context, u people.User, secret string) (Added, error) {
	made, err := "", error(nil)
	if secret == "" {
		made, err = s.People.AddMade(ctx, u)
	} else {
		err = s.People.Add(ctx, u, secret)
	}
	if err != nil {
		return Added{}, invalid(err, u.Name)
	}
	u, err = s.People.User(ctx, u.Name)
	return Added{u, made}, err
}

// Change changes everything of a user but the password.
func (s *Service) Change(ctx context.Context, u people.User) (people.User, error) {
	if err := s.People.Change(ctx, u); err != nil {
		return people.User{}, invalid(err, u.Name)
	}
	s.settle(ctx, u.Name)
	return s.People.User(ctx, u.Name)
}

// SetPassword gives a user a new password; must is that they are to choose another. Without one it is made, and given here. Live sessions
// end unless they are to be kept: where a password is set for somebody, another may have had the former one.
func (s *Service) SetPassword(ctx context.Context, name, secret string, must, keep bool) (made string, err error) {
	if secret == "" {
		made, err = s.People.MakePassword(ctx, name, !keep)
	} else {
		err = s.People.SetPassword(ctx, name, secret, must, !keep)
	}
	if err == nil {
		s.settle(ctx, name)
	}
	return made, invalid(err, name)
}

// Remove removes a user, and ends what is live of theirs.
func (s *Service) Remove(ctx context.Context, name string, evenSo bool) error {
	if named := s.Plan().Needs(plan.KeptUser, name); len(named) > 0 && !evenSo {
		return refusal.Conflict(fmt.Sprintf("%s of the running plan names %s, and would be about whoever is called that next: commit a "+
			"plan without it first; have them log in no more meanwhile (yl users change %s --off), or remove them all the same (--even-so)",
			named[0], name, name))
	}
	err := s.People.Remove(ctx, name)
	if err == nil {
		s.settle(ctx, name)
	}
	return refusal.Known(err, "user", name)
}

// Forget forgets somebody of a source with everything of theirs here, so that the name is free, and ends what is live of theirs. Whoever
// comes by a source with that name next is somebody new.
func (s *Service) Forget(ctx context.Context, name string) error {
	err := s.Store.ForgetSourcePerson(ctx, name)
	if err == nil {
		s.settle(ctx, name)
	}
	return refusal.Known(err, "person of a source", name)
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
