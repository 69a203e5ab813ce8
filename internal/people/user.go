package people

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/mail"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// User is a person, without anything secret.
type User struct {
	Name     string    `json:"name" doc:"What they log in with."`
	FullName string    `json:"full-name,omitempty"`
	Mail     string    `json:"mail,omitempty" doc:"Where mail reaches them."`
	Groups   []string  `json:"groups" nullable:"false"`
	Off      bool      `json:"off,omitempty" doc:"May not log in."`
	Until    time.Time `json:"until,omitzero" doc:"They may connect until then; sessions end by it."`
	Hours    string    `json:"hours,omitempty" doc:"When they may be connected, by its name in the plan, beside the hours of their passage."`
	Sessions int       `json:"sessions,omitempty" minimum:"0" maximum:"1000" doc:"How many sessions they may have at once; as their passage says if not given."`
	Tunnels  []string  `json:"tunnels,omitempty" nullable:"false" doc:"By which tunnels they may come; by those of their passage if not given."`
	// MustChange and PasswordAt are told, and not taken.
	MustChange bool      `json:"must-change,omitempty" doc:"Their password was made for them, and counts only until they choose another."`
	PasswordAt time.Time `json:"password-at,omitzero" doc:"When their password was set last."`

	hashed bool      // answers to a challenge cannot be judged
	ended  time.Time // when sessions from before it were to end
}

// Bounds of what a person is described with.
const (
	longestName  = 128 // of a full name, in octets
	longestMail  = 254 // RFC 5321 §4.5.3.1.3 less the angle brackets
	mostGroups   = 64
	mostTunnels  = 16
	mostSessions = 1000
)

var goodName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._@-]{0,63}$`)

// check tells what is wrong with how a person is described.
func (u User) check() error {
	switch {
	case !goodName.MatchString(u.Name):
		return fmt.Errorf("%q cannot be a user name: use up to 64 letters, digits, dots, hyphens, underscores and @", u.Name)
	case len(u.FullName) > longestName:
		return fmt.Errorf("the name of %s is longer than %d octets", u.Name, longestName)
	case len(u.Groups) > mostGroups:
		return fmt.Errorf("%s is in %d groups: at most %d", u.Name, len(u.Groups), mostGroups)
	case u.Sessions < 0 || u.Sessions > mostSessions:
		return fmt.Errorf("%d sessions at once for %s: give 0 to %d, 0 for what the passage says", u.Sessions, u.Name, mostSessions)
	case len(u.Tunnels) > mostTunnels:
		return fmt.Errorf("%s has %d tunnels: at most %d", u.Name, len(u.Tunnels), mostTunnels)
	}
	for _, word := range slices.Concat(u.Groups, u.Tunnels, []string{u.FullName, u.Hours}) {
		if at := legible.Find(word, ""); at >= 0 {
			return fmt.Errorf("what %s is described with holds %s", u.Name, legible.Name(word, at))
		}
	}
	for _, word := range slices.Concat(u.Tunnels, u.Groups) {
		if word == "" || strings.ContainsAny(word, " ;,") {
			return fmt.Errorf("%q is no name of a group or a tunnel (%s)", word, u.Name)
		}
	}
	if u.Mail == "" {
		return nil
	}
	if a, err := mail.ParseAddress(u.Mail); err != nil || a.Address != u.Mail || len(u.Mail) > longestMail {
		return fmt.Errorf("%q of %s is no mail address: expected something like rory@tern.example", u.Mail, u.Name)
	}
	return nil
}

// Bar tells why somebody may not log in at a moment, as far as that hangs on them alone; none: they may.
func (u User) Bar(now time.Time) reason.Reason {
	switch {
	case u.Off:
		return reason.Of(reason.SwitchedOff, nil)
	case !u.Until.IsZero() && !now.Before(u.Until):
		return reason.Of(reason.PersonOver, reason.With{reason.When: Until(u.Until)})
	}
	return reason.Reason{}
}

func (u User) limits() login.Limits {
	return login.Limits{Until: u.Until, Hours: u.Hours, Sessions: u.Sessions, Tunnels: u.Tunnels}
}

// record is a user as it is kept.
func (u User) record() store.User {
	r := store.User{
		Name: u.Name, FullName: u.FullName, Off: u.Off, Mail: u.Mail, Until: u.Until, Hours: u.Hours, Sessions: u.Sessions,
		Tunnels: strings.Join(slices.Compact(slices.Sorted(slices.Values(u.Tunnels))), " "),
	}
	for _, g := range slices.Compact(slices.Sorted(slices.Values(u.Groups))) {
		r.Groups = append(r.Groups, store.Membership{User: u.Name, Group: g})
	}
	return r
}

func user(r store.User) User {
	u := User{
		Name: r.Name, FullName: r.FullName, Off: r.Off, Mail: r.Mail, Hours: r.Hours, Sessions: r.Sessions,
		Tunnels: strings.Fields(r.Tunnels), Groups: []string{}, MustChange: r.MustChange, PasswordAt: r.PasswordAt, hashed: r.Hashed,
	}
	if len(u.Tunnels) == 0 {
		u.Tunnels = nil
	}
	if !r.Ended.IsZero() {
		u.ended = r.Ended
	}
	if !r.Until.IsZero() { // none is the zero value, in no zone
		u.Until = r.Until.UTC()
	}
	for _, m := range r.Groups {
		u.Groups = append(u.Groups, m.Group)
	}
	slices.Sort(u.Groups)
	return u
}

// Fit tells why a password will not do for somebody.
func (u User) Fit(text string) error { return password.Check(text, password.Least, u.Name, u.FullName) }

// Add adds a user.
func (p *People) Add(ctx context.Context, u User, secret string) error {
	rec, err := p.prepare(u, store.NewPassword{Text: secret})
	if err == nil {
		err = u.Fit(secret)
	}
	if err != nil {
		return err
	}
	return p.write(ctx, u.Name, func() error { return p.keeper.ApplyPeople(ctx, []store.NewUser{rec}, nil) })
}

// AddMade adds a user with a password that is made, which is given here and nowhere else, and counts only to choose another with.
func (p *People) AddMade(ctx context.Context, u User) (made string, err error) {
	if made, err = password.New(rand.Reader); err != nil {
		return "", err
	}
	rec, err := p.prepare(u, store.NewPassword{Text: made, Must: true, Cost: password.Light})
	if err != nil {
		return "", err
	}
	return made, p.write(ctx, u.Name, func() error { return p.keeper.ApplyPeople(ctx, []store.NewUser{rec}, nil) })
}

// prepare is somebody as they are to be added.
func (p *People) prepare(u User, secret store.NewPassword) (rec store.NewUser, err error) {
	rec.User, rec.Password = u.record(), secret
	rec.Password.Challenge = p.challenges(u.Groups)
	return rec, u.check()
}

// challenges tells whether people in these groups log in by an answer to a challenge, as far as is known.
func (p *People) challenges(groups []string) bool { return p.Ways == nil || p.Ways.Challenges(groups) }

// Change writes everything but the password.
func (p *People) Change(ctx context.Context, u User) error {
	if err := u.check(); err != nil {
		return err
	}
	return p.write(ctx, u.Name, func() error { return p.keeper.ChangeUser(ctx, u.record()) })
}

// SetPassword replaces a password; must is that it counts only to choose another with.
func (p *People) SetPassword(ctx context.Context, name, secret string, must, ends bool) error {
	u, err := p.User(ctx, name)
	if unfit := u.Fit(secret); unfit != nil {
		return unfit
	}
	if err != nil {
		return err
	}
	with := p.chosen(u, secret, must)
	with.Ends = ends
	return p.write(ctx, name, func() error { return p.keeper.SetPassword(ctx, name, with) })
}

// chosen is a password as it is to be kept for somebody.
func (p *People) chosen(u User, text string, must bool) store.NewPassword {
	return store.NewPassword{Text: text, Must: must, Challenge: p.challenges(u.Groups)}
}

// MakePassword replaces a password by one that is made, as AddMade does.
func (p *People) MakePassword(ctx context.Context, name string, ends bool) (made string, err error) {
	if made, err = password.New(rand.Reader); err != nil {
		return "", err
	}
	u, err := p.User(ctx, name)
	if err != nil {
		return "", err
	}
	secret := p.chosen(u, made, true)
	secret.Cost, secret.Ends = password.Light, ends // nobody guesses it
	return made, p.write(ctx, name, func() error { return p.keeper.SetPassword(ctx, name, secret) })
}

// Remove forgets a user.
func (p *People) Remove(ctx context.Context, name string) error {
	return p.write(ctx, name, func() error { return p.keeper.RemoveUser(ctx, name) })
}

// User finds one by name.
func (p *People) User(ctx context.Context, name string) (User, error) {
	r, err := p.keeper.User(ctx, name)
	return user(r), err
}

// judge judges an answer by the service's own users, and where it is none of theirs by sources.
func (p *People) judge(ctx context.Context, c eap.Check, from netip.Addr) (eap.Verdict, login.Outcome) {
	r, kept, err := p.keeper.Password(ctx, c.User)
	if errors.Is(err, store.ErrNotFound) {
		return p.challenged(ctx, c, from)
	}
	return p.judgeOwn(ctx, c, r, kept, err), login.Outcome{}
}

func (p *People) judgeOwn(ctx context.Context, c eap.Check, r store.User, kept store.Kept, err error) eap.Verdict {
	if err != nil {
		return eap.Verdict{Refusal: reason.Of(reason.PasswordUnchecked, reason.With{reason.Error: err.Error()})}
	}
	u := user(r)
	hash, ok := kept.NTHash()
	if why := u.Bar(time.Now()); !why.None() {
		return eap.Verdict{Refusal: why, Known: true, Barred: ok && c.Change == nil && c.Judge(hash).OK}
	}
	if !ok {
		return eap.Verdict{Known: true, Refusal: reason.Of(reason.PasswordKeptOtherwise, nil)}
	}
	if c.Change != nil {
		return p.change(ctx, u, c, hash)
	}
	v := c.Judge(hash)
	if v.OK && u.MustChange {
		return eap.Verdict{Known: true, MustChange: true, Refusal: reason.Of(reason.PasswordToChange, nil)}
	}
	return v
}

// handedOver judges a password that was handed over, by the service's own users.
func (p *People) handedOver(ctx context.Context, c source.Call) login.Outcome {
	name, secret := c.User, c.Password
	r, kept, err := p.keeper.Password(ctx, name)
	refused := func(code reason.Code, with reason.With) login.Outcome {
		return login.Outcome{User: name, Known: err == nil, Why: reason.Of(code, with)}
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return p.elsewhere(ctx, c)
	case err != nil:
		return refused(reason.PasswordUnchecked, reason.With{reason.Error: err.Error()})
	}
	u := user(r)
	right := secret != "" && kept.Is(secret)
	if why := u.Bar(time.Now()); !why.None() {
		return login.Outcome{User: name, Known: true, Why: why, Barred: right}
	}
	switch {
	case !right:
		return refused(reason.WrongPassword, nil)
	case u.MustChange:
		return refused(reason.PasswordToChange, nil)
	}
	p.keepAs(ctx, u, secret)
	return p.outcome(ctx, name)
}

// keepAs keeps a password that was just handed over as the plan that runs has need of it. Where that does not go it stays as it was.
func (p *People) keepAs(ctx context.Context, u User, text string) {
	if needs := p.challenges(u.Groups); needs == u.hashed {
		_ = p.write(ctx, u.Name, func() error { return p.keeper.KeepOtherwise(ctx, u.Name, text, needs) })
	}
}

// ForgetNTHashes forgets NT hashes of people who log in by no answer to a challenge, as the plan has it that runs. It gives whose those
// were.
func (p *People) ForgetNTHashes(ctx context.Context) (names []string, err error) {
	users, err := p.List(ctx)
	for _, u := range users {
		if u.hashed || p.challenges(u.Groups) {
			continue
		}
		if err := p.write(ctx, u.Name, func() error { return p.keeper.KeepOtherwise(ctx, u.Name, "", false) }); err != nil {
			return names, err
		}
		names = append(names, u.Name)
	}
	return names, err
}

// change takes a password that somebody chose in the login itself.
func (p *People) change(ctx context.Context, u User, c eap.Check, old [eap.NTHashLen]byte) eap.Verdict {
	unfit := func(why error) eap.Verdict {
		return eap.Verdict{Known: true, Unfit: true, Refusal: reason.Of(reason.PasswordUnfit, reason.With{reason.Error: why.Error()})}
	}
	next, err := c.Change.Open(old)
	switch {
	case err != nil:
		return eap.Verdict{Known: true, Refusal: reason.Of(reason.WrongPassword, nil)}
	case eap.NTHash(next) == old:
		return unfit(errors.New("it is the one that was to be changed"))
	}
	if err := u.Fit(next); err != nil {
		return unfit(err)
	}
	v := c.Judge(eap.NTHash(next))
	if !v.OK {
		return v
	}
	if err := p.write(ctx, u.Name, func() error {
		return p.keeper.SetPassword(ctx, u.Name, store.NewPassword{
			Text:      next,
			Challenge: true,
		})
	}); err != nil {
		return eap.Verdict{Known: true, Refusal: reason.Of(reason.PasswordUnchecked, reason.With{reason.Error: err.Error()})}
	}
	return v
}
