package people

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/directory"
	"yellowlantern/internal/store"
)

// Sources are where people are kept beside the service's own, as the plan that runs says.
type Sources interface {
	// Sources are those that are asked, in order.
	Sources() []*directory.Directory
	// Groups are the plan's.
	Groups() []string
}

// seenFor is for how long somebody of a source counts among people after their newest login.
const seenFor = 90 * 24 * time.Hour

// elsewhere judges a password that was handed over by somebody who is none of the service's own.
func (p *People) elsewhere(ctx context.Context, name, secret string) login.Outcome {
	unknown := login.Outcome{User: name, Why: reason.Of(reason.UnknownUser, nil)}
	if p.Sources == nil {
		return unknown
	}
	for _, d := range p.Sources.Sources() {
		who, err := d.Login(ctx, name, secret, nil)
		if err == nil {
			return p.came(ctx, d, who, secret)
		}
		if o, known := p.remembered(ctx, d, name, secret, err); known {
			return o
		}
		if kind := directory.KindOf(err); kind != directory.Unknown {
			// Of a name that nobody could look for it is not known whose it is: strangers choose names too.
			return login.Outcome{User: name, Known: kind == directory.Wrong || kind == directory.Barred, Why: whyNot(d.Source().Name, err)}
		}
	}
	return unknown
}

// whyNot is a source's error as a reason.
func whyNot(source string, err error) reason.Reason {
	code := map[directory.Kind]reason.Code{
		directory.Account: reason.SourceAccount, directory.Several: reason.SourceMistaken, directory.Mistaken: reason.SourceMistaken,
		directory.Barred: reason.SourceBars, directory.Wrong: reason.WrongPassword,
	}[directory.KindOf(err)]
	switch code {
	case reason.WrongPassword:
		return reason.Of(code, nil)
	case "":
		code = reason.SourceAway
	}
	return reason.Of(code, reason.With{reason.Source: source, reason.Error: err.Error()})
}

// Undecided tells whether a login came to nothing because nobody could judge it: the device is to try again.
func Undecided(why reason.Reason) bool {
	return slices.Contains([]reason.Code{
		reason.SourceAway, reason.SourceAccount, reason.SourceMistaken, reason.LoginsLater,
		reason.PasswordUnchecked,
	}, why.Code)
}

// remembered is the outcome where a source does not answer, of somebody whom it let in not long ago, if the plan says that they come in
// then: by the same password. Another one is a wrong one, so that nobody can guess while the source is away. known is false where nothing
// is remembered.
func (p *People) remembered(ctx context.Context, d *directory.Directory, name, secret string, err error,
) (o login.Outcome, known bool) {
	lasts := time.Duration(d.Source().Remember)
	if lasts == 0 || directory.KindOf(err) != directory.Away {
		return o, false
	}
	rec, none := p.keeper.SourcePerson(ctx, name)
	if none != nil || rec.Source != d.Source().Name || rec.Gone || rec.Hash == "" || time.Since(rec.At) >= lasts {
		return o, false
	}
	o = login.Outcome{User: rec.Name, Known: true, Source: rec.Source}
	if !password.Matches(rec.Hash, secret) {
		o.Why = reason.Of(reason.WrongPassword, nil)
		return o, true
	}
	o.OK, o.Groups = true, strings.Fields(rec.Groups)
	return o, true
}

// came is the outcome of a login that a source vouches for; secret is the password, where they had one.
func (p *People) came(ctx context.Context, d *directory.Directory, who directory.Person, secret string) login.Outcome {
	now := time.Now()
	if err := fit(who.Login); err != nil {
		return login.Outcome{Why: reason.Of(reason.SourceMistaken, reason.With{reason.Source: d.Source().Name, reason.Error: err.Error()})}
	}
	rec := p.record(d, who, now)
	rec.At = now
	// The service's own come first, however a name is written there: what is said of them here must not be got around.
	if _, err := p.keeper.User(ctx, rec.Name); !errors.Is(err, store.ErrNotFound) {
		return login.Outcome{User: rec.Name, Known: true, Why: reason.Of(reason.SourceBars, reason.With{
			reason.Source: rec.Source, reason.Error: "one of the service's own users has that name",
		})}
	}
	if d.Source().Remember > 0 && secret != "" {
		hash, err := password.Often.Hash(secret, rand.Reader)
		if err != nil {
			return login.Outcome{User: rec.Name, Known: true, Why: reason.Of(reason.NotRecorded, reason.With{reason.Error: err.Error()})}
		}
		rec.Hash = hash
	}
	o := login.Outcome{OK: true, User: rec.Name, Known: true, Source: rec.Source, Groups: strings.Fields(rec.Groups)}
	if err := p.keeper.SaveSourcePerson(ctx, rec); err != nil {
		return login.Outcome{User: rec.Name, Known: true, Why: reason.Of(reason.NotRecorded, reason.With{reason.Error: err.Error()})}
	}
	return o
}

// fit tells why a name that a source has for somebody will not do as a session's: it is shown to people, and must not be one of the
// service's own making.
func fit(name string) error {
	switch {
	case name == "" || len(name) > 128:
		return errors.New("the entry has no name to log in by, or one that is too long")
	case legible.Find(name, "") >= 0:
		return errors.New("the entry's name holds a character that is not shown")
	case IsTester(name):
		return errors.New("the entry has a name as identities of trials have")
	}
	return nil
}

func (p *People) record(d *directory.Directory, who directory.Person, now time.Time) store.SourcePerson {
	groups := directory.Taken(d.Source(), who.Groups, p.Sources.Groups())
	return store.SourcePerson{
		Name: who.Login, Source: d.Source().Name, FullName: who.FullName, Mail: who.Mail, Groups: strings.Join(groups, " "), Checked: now,
	}
}

// standing is who somebody of a source is now. Where it can be looked up it is, as often as the plan says; an error is that nobody knows.
func (p *People) standing(ctx context.Context, name string) (login.Standing, error) {
	rec, err := p.keeper.SourcePerson(ctx, name)
	if err != nil || p.Sources == nil {
		return login.Standing{}, store.ErrNotFound
	}
	all := p.Sources.Sources()
	i := slices.IndexFunc(all, func(d *directory.Directory) bool { return d.Source().Name == rec.Source })
	if i < 0 {
		return login.Standing{}, store.ErrNotFound // the plan has that source no more
	}
	d, now := all[i], time.Now()
	src := d.Source()
	if d.Looks() && now.Sub(rec.Checked) >= src.Again() {
		who, err := d.Look(ctx, name, nil)
		kind := directory.KindOf(err)
		switch {
		case err == nil:
			fresh := p.record(d, who, now)
			fresh.Name, fresh.At, fresh.Hash = rec.Name, rec.At, rec.Hash
			rec = fresh
		case kind == directory.Unknown || kind == directory.Barred:
			rec.Gone, rec.Checked, rec.Hash = true, now, ""
		default:
			return login.Standing{}, err
		}
		if err := p.keeper.SaveSourcePerson(ctx, rec); err != nil {
			return login.Standing{}, err
		}
	}
	if rec.Gone {
		return login.Standing{}, nil
	}
	return login.Standing{Groups: strings.Fields(rec.Groups)}, nil
}

// lookedUp is the outcome of somebody whom a certificate names and who is none of the service's own.
func (p *People) lookedUp(ctx context.Context, name string) login.Outcome {
	out := login.Outcome{User: name, Why: reason.Of(reason.UnknownUser, nil)}
	if p.Sources == nil {
		return out
	}
	for _, d := range p.Sources.Sources() {
		if !d.Looks() {
			continue
		}
		who, err := d.Look(ctx, name, nil)
		if err == nil {
			return p.came(ctx, d, who, "")
		}
		if directory.KindOf(err) != directory.Unknown {
			return login.Outcome{User: name, Known: true, Why: whyNot(d.Source().Name, err)}
		}
	}
	return out
}

// Find gives the plan's groups of somebody whom a source has, without their login; store.ErrNotFound where none that can look people up
// does.
func (p *People) Find(ctx context.Context, name string) (login string, groups []string, err error) {
	if p.Sources == nil {
		return "", nil, store.ErrNotFound
	}
	for _, d := range p.Sources.Sources() {
		if !d.Looks() {
			continue
		}
		who, err := d.Look(ctx, name, nil)
		switch {
		case err == nil:
			return who.Login, directory.Taken(d.Source(), who.Groups, p.Sources.Groups()), fit(who.Login)
		case directory.KindOf(err) != directory.Unknown:
			return "", nil, fmt.Errorf("source %s: %w", d.Source().Name, err)
		}
	}
	return "", nil, store.ErrNotFound
}

// SourceOf is which source somebody is of; empty: the service itself, or nobody.
func (p *People) SourceOf(ctx context.Context, name string) string {
	if _, err := p.keeper.User(ctx, name); err == nil {
		return ""
	}
	rec, _ := p.keeper.SourcePerson(ctx, name)
	return rec.Source
}

// Elsewhere lists people of sources who logged in lately, by name.
func (p *People) Elsewhere(ctx context.Context) ([]store.SourcePerson, error) {
	return p.keeper.SourcePeople(ctx, time.Now().Add(-seenFor))
}

// seenElsewhere are those of them who may come in, as reach wants them.
func (p *People) seenElsewhere(ctx context.Context) (out []reach.Person, err error) {
	all, err := p.Elsewhere(ctx)
	for _, x := range all {
		if _, err := p.keeper.User(ctx, x.Name); !x.Gone && errors.Is(err, store.ErrNotFound) {
			out = append(out, reach.Person{User: x.Name, Groups: strings.Fields(x.Groups)})
		}
	}
	return out, err
}
