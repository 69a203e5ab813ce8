// Package people answers for the persons who may connect: who they are, whether they log in rightly, which groups they
// are in. It joins the sources of people: the service's own users, who come first, and those of the plan.
package people

import (
	"context"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// Keeper is what keeps the service's own users.
type Keeper interface {
	Users(ctx context.Context) ([]store.User, error)
	PeopleVersion() uint64
	RollVersion() uint64
	User(ctx context.Context, name string) (store.User, error)
	AddUser(ctx context.Context, u store.User, password string) error
	ChangeUser(ctx context.Context, u store.User) error
	ApplyPeople(ctx context.Context, added []store.NewUser, changed []store.User) error
	SetPassword(ctx context.Context, name string, p store.NewPassword) error
	KeepOtherwise(ctx context.Context, name, text string, challenge bool) error
	RemoveUser(ctx context.Context, name string) error
	Stamp(ctx context.Context, name string) (string, error)
	AddKey(ctx context.Context, k store.PersonKey) error
	Keys(ctx context.Context, user string) ([]store.PersonKey, error)
	Key(ctx context.Context, fingerprint string) (store.PersonKey, error)
	RenewKey(ctx context.Context, k store.PersonKey) error
	SeenKey(ctx context.Context, k store.PersonKey) error
	NextOfKey(ctx context.Context, fingerprint, was string, der []byte, serial string, expires time.Time) error
	PromoteKey(ctx context.Context, fingerprint, serial string) error
	RevokeKey(ctx context.Context, fingerprint string, at time.Time) error
	AddPersonShared(ctx context.Context, k store.PersonShared, secret []byte) error
	PersonShareds(ctx context.Context, user string) ([]store.PersonShared, error)
	PersonShared(ctx context.Context, mixedIn bool, of string) (store.PersonShared, []byte, error)
	RemovePersonShared(ctx context.Context, id string) (store.PersonShared, error)
	AddFactor(ctx context.Context, f store.Factor, secret []byte, recovery []string, link string) error
	Factors(ctx context.Context, user string) ([]store.Factor, error)
	UseSecurityKey(ctx context.Context, id string, kept []byte, at time.Time) error
	FactorSecret(ctx context.Context, id string) (store.Factor, []byte, error)
	UseFactor(ctx context.Context, id string, next uint64, at time.Time) error
	UseRecovery(ctx context.Context, user, hash string) error
	RecoveryLeft(ctx context.Context) (map[string]int, error)
	ForgetFactors(ctx context.Context, user string) (int, error)
	SetCoded(ctx context.Context, user string, keys []string, at time.Time) error
	Coded(ctx context.Context, user string, keys []string) (time.Time, error)
	SaveSourcePerson(ctx context.Context, p store.SourcePerson) error
	Spelled(ctx context.Context, name string) (user, elsewhere string, err error)
	SourcePerson(ctx context.Context, name string) (store.SourcePerson, error)
	ForgetSourcePerson(ctx context.Context, name string) error
	SourcePeople(ctx context.Context, after time.Time) ([]store.SourcePerson, error)
	Password(ctx context.Context, name string) (store.User, store.Kept, error)
}

// People joins the sources.
type People struct {
	keeper  Keeper
	testers testers
	// Foreign judges certificates of other authorities; nil: none is taken.
	Foreign Foreign
	// Ways knows how people log in by the tunnels of the plan that runs; nil: by EAP-MSCHAPv2.
	Ways Ways
	// Sources are where people are kept beside the service's own; nil: nowhere.
	Sources Sources
	// Guesses slows down those who try passwords.
	Guesses Guesses
	// Mail sends people codes; nil: nobody does.
	Mail   Mail
	mailed mailed
	asked  asked

	// Codes slows down those who try codes of somebody's second factor, wherever they call from: their password is known then.
	Codes Guesses

	roll    roll
	mu      sync.Mutex // guards what follows: who may log in, as it was at a version of the keeper's
	version uint64
	until   time.Time // the first of them may not any more; zero: none
	persons []reach.Person
}

// New begins with the service's own users.
func New(k Keeper) *People { return &People{keeper: k} }

// Persons gives everybody who may log in, as reach wants them. The list must not be altered: it is kept until people change.
func (p *People) Persons(ctx context.Context) ([]reach.Person, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	version := p.keeper.PeopleVersion()
	if p.persons != nil && version == p.version && (p.until.IsZero() || time.Now().Before(p.until)) {
		return p.persons, nil
	}
	users, err := p.List(ctx)
	keys := map[string][]string{}
	if err == nil {
		var all []Key
		all, err = p.Keys(ctx, "")
		for _, k := range all {
			if k.Revoked.IsZero() && (k.Expires.IsZero() || time.Now().Before(k.Expires)) && !slices.Contains(keys[k.User], k.Kind) {
				keys[k.User] = append(keys[k.User], k.Kind)
			}
		}
	}
	if err == nil {
		var all []SharedKey
		all, err = p.SharedKeys(ctx, "")
		for _, k := range all {
			if kind := kindOfShared(k); !slices.Contains(keys[k.User], kind) {
				keys[k.User] = append(keys[k.User], kind)
			}
		}
	}
	factors := map[string]bool{}
	if err == nil {
		var all []store.Factor
		all, err = p.keeper.Factors(ctx, "")
		for _, f := range all {
			factors[f.User] = true
		}
	}
	out := make([]reach.Person, 0, len(users))
	var until time.Time
	for _, u := range users {
		if u.Bar(time.Now()).None() {
			if !u.Until.IsZero() && (until.IsZero() || u.Until.Before(until)) {
				until = u.Until
			}
			out = append(out, reach.Person{
				User: u.Name, Groups: u.Groups, Keys: keys[u.Name], Factor: factors[u.Name],
				Unchallenged: u.hashed,
			})
		}
	}
	if err == nil {
		var more []reach.Person
		more, err = p.seenElsewhere(ctx)
		for i := range more {
			more[i].Factor = factors[more[i].User]
		}
		out = append(out, more...)
	}
	if err == nil {
		p.persons, p.version, p.until = out, version, until
	}
	return out, err
}

// Source is what this source of people is called.
const Source = "local"

// Judge judges a login round of a call. The caller learns no more than that it failed; the journal learns why. Where a source let
// somebody in, the outcome is theirs.
func (p *People) Judge(ctx context.Context, c eap.Check, call login.Call) (v eap.Verdict, o login.Outcome) {
	if t := p.testers.find(c.User); t != nil {
		return c.Judge(t.hash), o
	}
	if p.guess(c.User, call, func() (string, Verdict) {
		v, o = p.judge(ctx, c, call.From)
		v.Later = Undecided(v.Refusal)
		switch {
		case v.Later || v.Barred || v.Refusal.Code == reason.SourceBars:
			return o.User, NoGuess
		default:
			return o.User, Guessed(v.OK || v.MustChange || v.Unfit)
		}
	}) > 0 {
		_, err := p.keeper.User(ctx, c.User)
		return eap.Verdict{Known: err == nil, Refusal: reason.Of(reason.GuessWaits, nil)}, login.Outcome{}
	}
	return v, o
}

// behindPassword are refusals of those whose password is right.
var behindPassword = []reason.Code{reason.PasswordToChange, reason.WrongCode, reason.CodeUsed, reason.CodeWaits}

// Password judges a password that was handed over, with a code of their second factor behind it where they have one.
func (p *People) Password(ctx context.Context, name, secret string, call login.Call) login.Outcome {
	name = eap.WithoutDomain(name)
	if t := p.testers.find(name); t != nil {
		if subtle.ConstantTimeCompare([]byte(secret), []byte(t.Password)) != 1 {
			return login.Outcome{User: name, Known: true, Why: reason.Of(reason.WrongPassword, nil)}
		}
		return p.outcome(ctx, name)
	}
	var o login.Outcome
	if p.guess(name, call, func() (string, Verdict) {
		o = p.withAppended(ctx, source.Call{User: name, Password: secret, From: call.From})
		switch {
		case Undecided(o.Why) || o.Barred || o.Why.Code == reason.SourceBars:
			return o.User, NoGuess
		default: // a code behind a password that is right is counted among codes
			return o.User, Guessed(o.OK || slices.Contains(behindPassword, o.Why.Code))
		}
	}) > 0 {
		_, err := p.keeper.User(ctx, name)
		return login.Outcome{User: name, Known: err == nil, Why: reason.Of(reason.GuessWaits, nil)}
	}
	p.asks(ctx, &o, call)
	return o
}

// stamp stands for what a user logs in with; empty for somebody who may not.
func (p *People) stamp(ctx context.Context, name string) (string, error) {
	if t := p.testers.find(name); t != nil {
		return hex.EncodeToString(t.hash[:4]), nil
	}
	return p.keeper.Stamp(ctx, name)
}

// Again implements gateway.People.
func (p *People) Again(ctx context.Context, name, stamp string) (login.Standing, error) {
	now, err := p.stampNow(ctx, name, stamp)
	switch {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return login.Standing{}, err
	case now == "" || now != stamp:
		return login.Standing{}, login.ErrStamp
	}
	return p.Standing(ctx, name)
}

// Standing implements gateway.People: somebody who may not log in is in no group.
func (p *People) Standing(ctx context.Context, name string) (login.Standing, error) {
	if t := p.testers.find(name); t != nil {
		return login.Standing{Groups: t.groups}, nil
	}
	u, err := p.User(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return p.standing(ctx, name)
	}
	if err != nil || !u.Bar(time.Now()).None() {
		return login.Standing{}, err
	}
	return login.Standing{Groups: u.Groups, Limits: u.limits(), Ended: u.ended}, nil
}
