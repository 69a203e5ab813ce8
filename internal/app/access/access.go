// Package access is who may use the service: its administrators, how they sign in, and what proves that somebody did. How that travels is
// the edge's business.
package access

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/password"
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
			a.Name, a.Credential, expires = t.Administrator, t.Hash, t.Expires
		}
	case session != "":
		if c, err := s.Store.ConsoleSession(ctx, digest(session)); err == nil {
			a.Name, a.Credential, expires = c.Administrator, c.Hash, c.Expires
		}
	}
	if a.Name == "" {
		return ctx, func() {}, false
	}
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
	if len(name) < 1 || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return errors.New("give the administrator a name without spaces")
	}
	if err := password.Check(secret, leastAdmin, name); err != nil {
		return err
	}
	hash, err := s.hashed(secret)
	if err != nil {
		return err
	}
	return s.Store.AddFirstAdministrator(ctx, store.Administrator{Name: name, Hash: hash, At: time.Now().UTC()})
}

// SignIn signs an administrator in to the console.
func (s *Service) SignIn(ctx context.Context, c Credentials) (SignedIn, error) {
	if err := s.verify(ctx, c); err != nil {
		return SignedIn{}, err
	}
	return s.newSession(ctx, c.Name)
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
}

func (s *Service) newSession(ctx context.Context, name string) (SignedIn, error) {
	secret, expires := newSecret(), time.Now().Add(sessionLife)
	err := s.Store.AddConsoleSession(ctx, store.ConsoleSession{
		Hash: digest(secret), Administrator: name, At: time.Now().UTC(), From: actor.Of(ctx).From.String(), Expires: expires,
	})
	return SignedIn{name, secret, expires}, err
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
		}
		return no == nil
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
