// Package access is who may use the service: its administrators, how they sign in, and what proves that somebody did. How that travels is
// the edge's business.
package access

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Service lets them in.
type Service struct {
	Store   *store.Store
	Journal *journal.Service
	Log     *slog.Logger
	// SetupCode must be told to name the first administrator.
	SetupCode string
	// Cost is what it costs to try a password of an administrator's.
	Cost password.Cost
	// Attempts counts wrong passwords.
	Attempts *people.Guesses
	// Factors keeps second factors.
	Factors Factors
	// Plan is what runs, which may say that administrators are people of sources, kept in Elsewhere. Mail tells people, and Background
	// does something beside whoever asks for it.
	Plan       func() *plan.Plan
	Elsewhere  Sources
	Mail       Mail
	Background func(func(context.Context))

	looking     sync.Mutex
	turns       turns
	asking      turns // of sources, which may be slow
	credentials credentials
}

// Mail sends people mail.
type Mail interface {
	Send(ctx context.Context, to, subject, text string) error
}

const (
	sessionLife = 12 * time.Hour
	leastAdmin  = 12 // characters of an administrator's password
)

// mostAdmitted is how often somebody's credential is looked up again where rights end meanwhile.
const mostAdmitted = 5

// Admit says in whose name a request is made, by the secret of a token or of a console session, and gives a context that ends when that
// is no longer valid. done must be called. ok is false where it is not valid any more.
func (s *Service) Admit(ctx context.Context, token, session string) (with context.Context, done func(), ok bool) {
	for range mostAdmitted {
		version := s.credentials.version()
		a, expires, ok := s.who(ctx, token, session)
		if !ok {
			break
		}
		with, done, ok = s.credentials.begin(actor.With(ctx, a), use{hash: a.Credential, administrator: a.Name, role: a.Role}, version)
		if !ok { // somebody's rights ended, perhaps these
			continue
		}
		if !expires.IsZero() {
			var stop context.CancelFunc
			with, stop = context.WithDeadline(with, expires)
			end := done
			done = func() { stop(); end() }
		}
		return with, done, true
	}
	return ctx, func() {}, false
}

// who is in whose name a request is made, as the store has it now, and until when that is valid.
func (s *Service) who(ctx context.Context, token, session string) (a actor.Actor, expires time.Time, ok bool) {
	a = actor.Of(ctx)
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
		return a, expires, false
	}
	who, err := s.Store.Administrator(ctx, a.Name)
	if err != nil || !s.Stands(ctx, &who) { // they are none any more
		return a, expires, false
	}
	a.Role, a.MustChange = who.Role, who.MustChange
	return a, expires, true
}

// EndChanged ends what goes on in the name of administrators who are none any more, or have another role than when it began: a commit and
// a source change that without a call about them.
func (s *Service) EndChanged(ctx context.Context) {
	roles := map[string]string{} // now
	for _, u := range s.credentials.open() {
		if _, known := roles[u.administrator]; !known {
			who, err := s.Store.Administrator(ctx, u.administrator)
			switch {
			case errors.Is(err, store.ErrNotFound), err == nil && !s.Stands(ctx, &who):
				roles[u.administrator] = ""
			case err != nil:
				continue // nothing is known: a failed lookup ends nothing
			default:
				roles[u.administrator] = who.Role
			}
		}
	}
	if len(roles) == 0 {
		return
	}
	s.credentials.endIf(func(u use) bool {
		role, known := roles[u.administrator]
		return known && role != u.role
	})
}

// Credentials of an administrator.
type Credentials struct {
	Name     string `json:"name" maxLength:"64"`
	Password string `json:"password" maxLength:"256"`
	Code     string `json:"code,omitempty" maxLength:"32" doc:"Of the second factor, where the administrator has one."`
	Key      string `json:"key,omitempty" maxLength:"16384" doc:"What a security key answered, in place of a code: JSON, as browsers write it."`
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
	who, known, err := s.verify(ctx, c)
	if err != nil {
		var no *refusal.Error
		if known != "" && errors.As(err, &no) && no.Sort == refusal.Unproved && !codeWanted(err) {
			s.Journal.Tell(reason.Of(reason.SignInRefused, reason.With{reason.Source: from, reason.Error: known}), c.Name)
		}
		return SignedIn{}, err
	}
	with := ""
	switch {
	case c.Key != "":
		with = "a security key"
	case c.Code != "":
		with = "a code"
	}
	in, err := s.newSession(ctx, who.Name)
	in.MustChange = who.MustChange
	if err == nil {
		s.Journal.Tell(reason.Of(reason.SignedIn, reason.With{reason.Source: from, reason.What: with, reason.Name: who.Source}), who.Name)
		if keepers, p := s.keepers(); len(keepers) > 0 && who.Source == "" {
			s.alarm(ctx, p, who.Name)
		}
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

// called finds an administrator by their name; one of the service's own however it is written, for a password that is theirs is not to be
// sent to a source.
func (s *Service) called(ctx context.Context, name string) (store.Administrator, error) {
	a, err := s.Store.Administrator(ctx, name)
	if !errors.Is(err, store.ErrNotFound) {
		return a, err
	}
	all, worse := s.Store.Administrators(ctx)
	if i := slices.IndexFunc(all, func(a store.Administrator) bool { return a.Source == "" && fold.Same(a.Name, name) }); i >= 0 {
		return all[i], nil
	}
	return a, errors.Join(err, worse)
}

// verify tells which administrator these credentials are of. known is what is wrong with those of somebody who is one, for the journal.
func (s *Service) verify(ctx context.Context, c Credentials) (a store.Administrator, known string, err error) {
	from := actor.Of(ctx).From
	a, err = s.called(ctx, c.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return a, "", err
	}
	own := err == nil && a.Source == ""
	var no error
	wait, next := s.Attempts.Try(c.Name, from, func() people.Verdict {
		judge, turns := s.elsewhere, &s.asking
		if keepers, _ := s.keepers(); own || len(keepers) == 0 {
			judge, turns = s.own, &s.turns
		}
		done, ok := turns.take(ctx, from)
		if !ok {
			no = busy()
			return people.NoGuess
		}
		defer done()
		if a, known, no = judge(ctx, a, c); no == nil {
			if s.counted(c.Name, a.Name, from, people.RightGuess) {
				no, known = wrong, "too many wrong passwords of "+a.Name
				return people.NoGuess
			}
			no = s.proves(ctx, a.Name, c) // a code is throttled by itself
			return people.RightGuess
		}
		if errors.Is(no, wrong) {
			var about *wrongOf
			if errors.As(no, &about) {
				s.counted(c.Name, about.person, from, people.WrongGuess)
			}
			return people.WrongGuess
		}
		return people.NoGuess
	})
	if wait > 0 {
		return a, "", &refusal.Error{
			Sort: refusal.TooMuch, Words: fmt.Sprintf("too many tries: wait %d seconds", int(wait.Seconds())+1), Wait: wait,
		}
	}
	if no == nil {
		return a, "", nil
	}
	if known == "" && (own || a.Source != "") {
		known = no.Error()
	}
	if next > 0 && errors.Is(no, wrong) {
		no = &refusal.Error{Sort: wrong.Sort, Words: wrong.Words, Wait: next}
	}
	return a, known, no
}

// counted counts a guess for whoever it is about, too, where they are called otherwise than was written; it tells whether they must wait.
func (s *Service) counted(written, person string, from netip.Addr, v people.Verdict) (waits bool) {
	if person == "" || fold.Same(written, person) {
		return false
	}
	if s.Attempts.Waits(person, from) > 0 {
		return true
	}
	s.Attempts.Judged(person, from, v)
	return false
}

// own judges the password of an administrator of the service's own, or of nobody: that takes as long.
func (s *Service) own(_ context.Context, a store.Administrator, c Credentials) (store.Administrator, string, error) {
	if !password.Matches(a.Hash, c.Password) {
		return a, "", wrong
	}
	if keepers, p := s.keepers(); len(keepers) > 0 && a.Name != p.LastResort {
		return a, "", &refusal.Error{Sort: refusal.Unproved, Words: "administrators are people of source " + keepers[0].Source + " here: sign in as one of them"}
	}
	return a, "", nil
}

func (s *Service) elsewhere(ctx context.Context, before store.Administrator, c Credentials) (store.Administrator, string, error) {
	keepers, _ := s.keepers()
	a, known, err := s.fromSource(ctx, keepers, c)
	if err != nil {
		return before, known, err
	}
	return a, "", nil
}

func busy() error {
	return &refusal.Error{Sort: refusal.TooMuch, Words: "too many sign-ins at once from there: try again in a moment"}
}
