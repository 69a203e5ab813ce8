// Package people answers for the persons who may connect: who they are, whether they log in rightly, which groups they
// are in. It joins the sources of people; for now that is the service's own users.
package people

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Keeper is what keeps the service's own users.
type Keeper interface {
	Users(ctx context.Context) ([]store.User, error)
	PeopleVersion() uint64
	User(ctx context.Context, name string) (store.User, error)
	AddUser(ctx context.Context, u store.User, password string) error
	ChangeUser(ctx context.Context, u store.User, groups []string) error
	SetPassword(ctx context.Context, name, password string) error
	RemoveUser(ctx context.Context, name string) error
	Stamp(ctx context.Context, name string) (string, error)
	AddKey(ctx context.Context, k store.PersonKey) error
	Keys(ctx context.Context, user string) ([]store.PersonKey, error)
	Key(ctx context.Context, fingerprint string) (store.PersonKey, error)
	RenewKey(ctx context.Context, k store.PersonKey) error
	NextOfKey(ctx context.Context, fingerprint, was string, der []byte, serial string, expires time.Time) error
	PromoteKey(ctx context.Context, fingerprint, serial string) error
	RevokeKey(ctx context.Context, fingerprint string, at time.Time) error
	AddPersonShared(ctx context.Context, k store.PersonShared, secret []byte) error
	PersonShareds(ctx context.Context, user string) ([]store.PersonShared, error)
	PersonShared(ctx context.Context, mixedIn bool, of string) (store.PersonShared, []byte, error)
	RemovePersonShared(ctx context.Context, id string) (store.PersonShared, error)
	JudgeLogin(ctx context.Context, c eap.Check) (eap.Verdict, error)
}

// People joins the sources.
type People struct {
	keeper  Keeper
	testers testers
	// Guesses slows down those who try passwords.
	Guesses Guesses

	mu      sync.Mutex // guards what follows: who may log in, as it was at a version of the keeper's
	version uint64
	persons []reach.Person
}

// New begins with the service's own users.
func New(k Keeper) *People { return &People{keeper: k} }

// User is a person, without anything secret.
type User struct {
	Name     string   `json:"name" doc:"What they log in with."`
	FullName string   `json:"full-name,omitempty"`
	Groups   []string `json:"groups" nullable:"false"`
	Off      bool     `json:"off,omitempty" doc:"May not log in."`
}

// LeastPassword is the least length of a password in characters: MS-CHAPv2's exchange can be tried against guesses by a
// gateway that people were lured to, so short ones will not do.
const LeastPassword = 12

var goodName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._@-]{0,63}$`)

func checkPassword(p string) error {
	switch {
	case !utf8.ValidString(p):
		return errors.New("the password is not UTF-8 text")
	case utf8.RuneCountInString(p) < LeastPassword:
		return fmt.Errorf("the password has %d characters; give at least %d, such as four unrelated words", utf8.RuneCountInString(p),
			LeastPassword)
	case len(p) > 256:
		return errors.New("the password is longer than 256 octets")
	}
	return nil
}

// Add adds a user.
func (p *People) Add(ctx context.Context, u User, password string) error {
	if !goodName.MatchString(u.Name) {
		return fmt.Errorf("%q cannot be a user name: use up to 64 letters, digits, dots, hyphens, underscores and @", u.Name)
	}
	if err := checkPassword(password); err != nil {
		return err
	}
	rec := store.User{Name: u.Name, FullName: u.FullName, Off: u.Off}
	for _, g := range slices.Compact(slices.Sorted(slices.Values(u.Groups))) {
		rec.Groups = append(rec.Groups, store.Membership{User: u.Name, Group: g})
	}
	return p.keeper.AddUser(ctx, rec, password)
}

// Change writes everything but the password.
func (p *People) Change(ctx context.Context, u User) error {
	groups := slices.Compact(slices.Sorted(slices.Values(u.Groups)))
	if groups == nil {
		groups = []string{}
	}
	return p.keeper.ChangeUser(ctx, store.User{Name: u.Name, FullName: u.FullName, Off: u.Off}, groups)
}

// SetPassword replaces a password.
func (p *People) SetPassword(ctx context.Context, name, password string) error {
	if err := checkPassword(password); err != nil {
		return err
	}
	return p.keeper.SetPassword(ctx, name, password)
}

// Remove forgets a user.
func (p *People) Remove(ctx context.Context, name string) error {
	return p.keeper.RemoveUser(ctx, name)
}

// List gives everybody by name.
func (p *People) List(ctx context.Context) ([]User, error) {
	records, err := p.keeper.Users(ctx)
	out := make([]User, 0, len(records))
	for _, r := range records {
		out = append(out, user(r))
	}
	return out, err
}

// User finds one by name.
func (p *People) User(ctx context.Context, name string) (User, error) {
	r, err := p.keeper.User(ctx, name)
	return user(r), err
}

func user(r store.User) User {
	u := User{Name: r.Name, FullName: r.FullName, Off: r.Off, Groups: []string{}}
	for _, m := range r.Groups {
		u.Groups = append(u.Groups, m.Group)
	}
	slices.Sort(u.Groups)
	return u
}

// Persons gives everybody who may log in, as reach wants them. The list must not be altered: it is kept until people change.
func (p *People) Persons(ctx context.Context) ([]reach.Person, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	version := p.keeper.PeopleVersion()
	if p.persons != nil && version == p.version {
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
	out := make([]reach.Person, 0, len(users))
	for _, u := range users {
		if !u.Off {
			out = append(out, reach.Person{User: u.Name, Groups: u.Groups, Keys: keys[u.Name]})
		}
	}
	if err == nil {
		p.persons, p.version = out, version
	}
	return out, err
}

// Begin begins a login by EAP-MSCHAPv2, of somebody who calls from an address; server is what the gateway calls itself.
func (p *People) Begin(from netip.Addr, server string) login.Conversation {
	return &conversation{p, eap.Converse(rand.Reader, server, func(c eap.Check) eap.Verdict {
		ctx, stop := context.WithTimeout(context.Background(), judgeTime)
		defer stop()
		return p.Judge(ctx, c, from)
	})}
}

// Source is what this source of people is called.
const Source = "local"

const judgeTime = 10 * time.Second // for whoever keeps the passwords

// conversation adds to a login what is known of the person.
type conversation struct {
	people *People
	method login.Conversation
}

// Next takes the login a step further.
func (c *conversation) Next(message []byte) login.Step {
	step := c.method.Next(message)
	if !step.Over || !step.OK {
		return step
	}
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	var err error
	if step.Groups, err = c.people.Groups(ctx, step.User); err != nil {
		return login.Step{
			Claimed: step.Claimed, Over: true, // in place of the method's own word that it went well
			Outcome: login.Outcome{User: step.User, Known: true, Why: reason.Of(reason.GroupsUnknown, nil)},
		}
	}
	step.Source = Source
	step.Stamp, _ = c.people.stamp(ctx, step.User) // without one they log in anew each time
	return step
}

// Judge judges a login round from an address. The caller learns no more than that it failed; the journal learns why.
func (p *People) Judge(ctx context.Context, c eap.Check, from netip.Addr) eap.Verdict {
	if t := p.testers.find(c.User); t != nil {
		return c.Judge(t.hash)
	}
	var v eap.Verdict
	if wait, _ := p.Guesses.Try(c.User, from, func() bool {
		v = p.judge(ctx, c)
		return v.OK
	}); wait > 0 {
		_, err := p.keeper.User(ctx, c.User)
		return eap.Verdict{Known: err == nil, Refusal: reason.Of(reason.GuessWaits, nil)}
	}
	return v
}

func (p *People) judge(ctx context.Context, c eap.Check) eap.Verdict {
	v, err := p.keeper.JudgeLogin(ctx, c)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return eap.Verdict{Refusal: reason.Of(reason.UnknownUser, nil)}
	case err != nil:
		return eap.Verdict{Refusal: reason.Of(reason.PasswordUnchecked, reason.With{reason.Error: err.Error()})}
	}
	return v
}

// stamp stands for what a user logs in with; empty for somebody who may not.
func (p *People) stamp(ctx context.Context, name string) (string, error) {
	if t := p.testers.find(name); t != nil {
		return hex.EncodeToString(t.hash[:4]), nil
	}
	return p.keeper.Stamp(ctx, name)
}

// Again implements gateway.People.
func (p *People) Again(ctx context.Context, name, stamp string) ([]string, error) {
	now, err := p.stampNow(ctx, name, stamp)
	switch {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return nil, err
	case now == "" || now != stamp:
		return nil, login.ErrStamp
	}
	return p.Groups(ctx, name)
}

// Groups gives a user's groups; a user who is switched off has none.
func (p *People) Groups(ctx context.Context, name string) ([]string, error) {
	if t := p.testers.find(name); t != nil {
		return t.groups, nil
	}
	u, err := p.User(ctx, name)
	if err != nil || u.Off {
		return nil, err
	}
	return u.Groups, nil
}
