// Package access is who may use the service: its administrators, how they sign in, and what proves that somebody did. How that travels is
// the edge's business.
package access

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Service lets them in.
type Service struct {
	Store   *store.Store
	Journal *journal.Service
	// SetupCode must be told to name the first administrator.
	SetupCode string
	// Cost is what it costs to try a password of an administrator's.
	Cost password.Cost
	// Attempts counts wrong passwords.
	Attempts *people.Guesses
	// Factors keeps second factors.
	Factors Factors

	turns       turns
	credentials credentials
}

const (
	sessionLife = 12 * time.Hour
	leastAdmin  = 12 // characters of an administrator's password
)

// Admit says in whose name a request is made, by the secret of a token or of a console session, and gives a context that ends when that
// is worth nothing any more. done must be called. ok is false where it is worth nothing already.
func (s *Service) Admit(ctx context.Context, token, session string) (with context.Context, done func(), ok bool) {
	a, expires := actor.Of(ctx), time.Time{}
	switch {
	case token != "":
		if t, err := s.Store.Token(ctx, digest(token)); err == nil {
			a.Name, a.Credential, expires, a.By, a.Narrowed = t.Administrator, t.Hash, t.Expires, "token "+t.Name, t.Role
			if now := time.Now(); now.Sub(t.Used) > time.Minute {
				_ = s.Store.UsedToken(ctx, t.Hash, now) // it is for whoever looks over the list
			}
		}
	case session != "":
		if c, err := s.Store.ConsoleSession(ctx, digest(session)); err == nil {
			a.Name, a.Credential, expires, a.By = c.Administrator, c.Hash, c.Expires, "console"
		}
	}
	if a.Name == "" {
		return ctx, func() {}, false
	}
	who, err := s.Store.Administrator(ctx, a.Name)
	if err != nil { // they are none any more
		return ctx, func() {}, false
	}
	a.Role, a.MustChange = who.Role, who.MustChange
	with, done = s.credentials.use(actor.With(ctx, a), a.Credential)
	if !expires.IsZero() {
		var stop context.CancelFunc
		with, stop = context.WithDeadline(with, expires)
		end := done
		done = func() { stop(); end() }
	}
	return with, done, true
}

// Credentials of an administrator.
type Credentials struct {
	Name     string `json:"name" maxLength:"64"`
	Password string `json:"password" maxLength:"256"`
	Code     string `json:"code,omitempty" maxLength:"32" doc:"Of the second factor, where the administrator has one."`
}

// NeedsAdministrator tells whether the first administrator is still to be named.
func (s *Service) NeedsAdministrator(ctx context.Context) (bool, error) {
	has, err := s.Store.HasAdministrator(ctx)
	return !has, err
}

// Start names the first administrator, for whoever has the setup code, and signs them in.
func (s *Service) Start(ctx context.Context, c Credentials, code string) (SignedIn, error) {
	// The code has 120 bits: nobody guesses it, so nobody needs to be slowed, and no stranger can keep the right one from being taken.
	if s.SetupCode == "" || subtle.ConstantTimeCompare([]byte(code), []byte(s.SetupCode)) != 1 {
		return SignedIn{}, &refusal.Error{Sort: refusal.Denied, Words: "the setup code is wrong: the service printed it when it started"}
	}
	if err := s.NameAdministrator(ctx, c.Name, c.Password); err != nil {
		if errors.Is(err, store.ErrExists) {
			return SignedIn{}, refusal.Conflict("the first administrator is named already: sign in")
		}
		return SignedIn{}, refusal.Mistaken(err)
	}
	return s.newSession(ctx, c.Name)
}

// NameAdministrator makes the first administrator; store.ErrExists if there is one.
func (s *Service) NameAdministrator(ctx context.Context, name, secret string) error {
	if err := fitName(name); err != nil {
		return err
	}
	if err := password.Check(secret, leastAdmin, name); err != nil {
		return err
	}
	hash, err := s.hashed(secret)
	if err != nil {
		return err
	}
	return s.Store.AddFirstAdministrator(ctx, store.Administrator{Name: name, Hash: hash, Role: RoleAdministrator, At: time.Now().UTC()})
}

// SignIn signs an administrator in to the console.
func (s *Service) SignIn(ctx context.Context, c Credentials) (SignedIn, error) {
	from := actor.Of(ctx).From.String()
	who, unknown := s.Store.Administrator(ctx, c.Name)
	if err := s.verify(ctx, c); err != nil {
		var no *refusal.Error
		if unknown == nil && errors.As(err, &no) && no.Sort == refusal.Unproved && no.Words != CodeWanted {
			s.Journal.Tell(reason.Of(reason.SignInRefused, reason.With{reason.Source: from, reason.Error: no.Words}), c.Name)
		}
		return SignedIn{}, err
	}
	with := ""
	if c.Code != "" {
		with = "a code"
	}
	in, err := s.newSession(ctx, c.Name)
	in.MustChange = who.MustChange
	if err == nil {
		s.Journal.Tell(reason.Of(reason.SignedIn, reason.With{reason.Source: from, reason.What: with}), c.Name)
	}
	return in, err
}

// SignOut ends a console session, by its secret.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	err := s.Store.EndConsoleSession(ctx, digest(secret))
	s.credentials.end(digest(secret))
	return err
}

// SignedIn is a console session that has just begun.
type SignedIn struct {
	Name    string
	Secret  string // proves it, told once
	Expires time.Time
	// MustChange is that the password was made for them.
	MustChange bool
}

func (s *Service) newSession(ctx context.Context, name string) (SignedIn, error) {
	secret, expires := newSecret(), time.Now().Add(sessionLife)
	err := s.Store.AddConsoleSession(ctx, store.ConsoleSession{
		Hash: digest(secret), Administrator: name, At: time.Now().UTC(), From: actor.Of(ctx).From.String(), Expires: expires,
	})
	return SignedIn{name, secret, expires, false}, err
}

func (s *Service) verify(ctx context.Context, c Credentials) error {
	from := actor.Of(ctx).From
	a, err := s.Store.Administrator(ctx, c.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	var no error
	wait, next := s.Attempts.Try(c.Name, from, func() bool {
		done, ok := s.turns.take(ctx, from)
		if !ok {
			no = busy()
			return false
		}
		defer done()
		if !password.Matches(a.Hash, c.Password) {
			no = &refusal.Error{Sort: refusal.Unproved, Words: "name or password is wrong"}
			return false
		}
		no = s.proves(ctx, c) // a code is slowed by itself
		return true
	})
	if wait > 0 {
		return &refusal.Error{
			Sort: refusal.TooMuch, Words: fmt.Sprintf("too many tries: wait %d seconds", int(wait.Seconds())+1), Wait: wait,
		}
	}
	var wrong *refusal.Error
	if next > 0 && errors.As(no, &wrong) {
		wrong.Wait = next
	}
	return no
}

func busy() error {
	return &refusal.Error{Sort: refusal.TooMuch, Words: "too many sign-ins at once from there: try again in a moment"}
}
