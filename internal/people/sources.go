package people

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// Sources are where people are kept beside the service's own, as the plan that runs says.
type Sources interface {
	// Sources are those that are asked, in order.
	Sources() []source.Source
	// Groups are the plan's.
	Groups() []string
}

// seenFor is for how long somebody of a source counts among people after their newest login.
const seenFor = 90 * 24 * time.Hour

// elsewhere judges a password that was handed over by somebody who is none of the service's own.
func (p *People) elsewhere(ctx context.Context, c source.Call) login.Outcome {
	o := login.Outcome{User: c.User, Why: reason.Of(reason.UnknownUser, nil)}
	if p.Sources == nil {
		return o
	}
	for _, s := range p.Sources.Sources() {
		who, err := s.Login(ctx, c, nil)
		if err == nil {
			return p.came(ctx, s, who, c.Password)
		}
		if o, known := p.remembered(ctx, s, c, err); known {
			return o
		}
		var settled bool
		if o, settled = p.not(o, s, err); settled {
			return o
		}
	}
	return o
}

// not is the outcome where a source does not let somebody in, and whether no other source is to be asked. before is what came of those
// before it.
func (p *People) not(before login.Outcome, s source.Source, err error) (login.Outcome, bool) {
	if person := source.PersonOf(err); person != "" { // however the name was written
		before.User = person
	}
	switch kind := source.KindOf(err); kind {
	case source.Unknown:
		return before, false
	case source.Expired:
		before.Known, before.Why = true, whyNot(s.Settings().Name, err)
		if by, can := s.(source.Changer); can && by.Changes() {
			before.Source, before.Why = s.Settings().Name, reason.Of(reason.PasswordToChange, nil)
		}
		return before, true
	case source.Refused: // whether it is theirs it does not say: another source may have them
		before.Why = whyNot(s.Settings().Name, err)
		return before, false
	default:
		// Of a name that nobody could look for it is not known whose it is: strangers choose names too.
		before.Known = kind == source.Wrong || kind == source.Barred
		before.Why = whyNot(s.Settings().Name, err)
		return before, true
	}
}

// challenged judges an answer to a challenge by the sources that can.
func (p *People) challenged(ctx context.Context, c eap.Check, from netip.Addr) (eap.Verdict, login.Outcome) {
	o := login.Outcome{User: c.User, Why: reason.Of(reason.UnknownUser, nil)}
	if p.Sources == nil {
		return eap.Verdict{Refusal: o.Why}, o
	}
	for _, s := range p.Sources.Sources() {
		by, can := s.(source.Challenged)
		if !can {
			continue
		}
		who, v, err := by.Challenge(ctx, from, c, nil)
		if err == nil && !v.OK { // it asks for another password
			v.Known = true
			return v, o
		}
		if err == nil {
			if o = p.came(ctx, s, who, ""); !o.OK {
				return eap.Verdict{Known: o.Known, Refusal: o.Why}, o
			}
			v.Known = true
			return v, o
		}
		var settled bool
		if o, settled = p.not(o, s, err); settled {
			break
		}
	}
	return eap.Verdict{Known: o.Known, Refusal: o.Why}, o
}

// whyNot is a source's error as a reason.
func whyNot(name string, err error) reason.Reason {
	code := map[source.Kind]reason.Code{
		source.Unknown: reason.UnknownUser,
		source.Account: reason.SourceAccount, source.Several: reason.SourceMistaken, source.Mistaken: reason.SourceMistaken,
		source.Barred: reason.SourceBars, source.Expired: reason.SourceBars, source.Wrong: reason.WrongPassword, source.Refused: reason.SourceRefuses,
	}[source.KindOf(err)]
	switch code {
	case reason.WrongPassword, reason.UnknownUser:
		return reason.Of(code, nil)
	case "":
		code = reason.SourceAway
	}
	return reason.Of(code, reason.With{reason.Source: name, reason.Error: err.Error()})
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
func (p *People) remembered(ctx context.Context, s source.Source, c source.Call, err error) (o login.Outcome, known bool) {
	lasts := time.Duration(s.Settings().Remember)
	if lasts == 0 || source.KindOf(err) != source.Away {
		return o, false
	}
	_, spelled, _ := p.keeper.Spelled(ctx, c.User)
	rec, none := p.keeper.SourcePerson(ctx, spelled)
	if none != nil || rec.Source != s.Settings().Name || rec.Gone || rec.Hash == "" || time.Since(rec.At) >= lasts {
		return o, false
	}
	o = login.Outcome{User: rec.Name, Known: true, Source: rec.Source}
	if !password.Matches(rec.Hash, c.Password) {
		o.Why = reason.Of(reason.WrongPassword, nil)
		return o, true
	}
	o.OK, o.Groups, o.Limits = true, strings.Fields(rec.Groups), limitsOf(rec)
	return o, true
}

// came is the outcome of a login that a source vouches for; secret is the password, where they had one.
func (p *People) came(ctx context.Context, s source.Source, who source.Person, secret string) login.Outcome {
	now := time.Now()
	if err := fit(who.Login); err != nil {
		return login.Outcome{Why: reason.Of(reason.SourceMistaken,
			reason.With{
				reason.Source: s.Settings().Name,
				reason.Error:  err.Error(),
			})}
	}
	rec := p.record(s, who, now)
	rec.At = now
	if why := p.holds(ctx, &rec); !why.None() {
		return login.Outcome{User: rec.Name, Known: true, Why: why}
	}
	if s.Settings().Remember > 0 && secret != "" {
		hash, err := password.Often.Hash(secret, rand.Reader)
		if err != nil {
			return login.Outcome{User: rec.Name, Known: true, Why: reason.Of(reason.NotRecorded, reason.With{reason.Error: err.Error()})}
		}
		rec.Hash = hash
	}
	o := login.Outcome{OK: true, User: rec.Name, Known: true, Source: rec.Source, Groups: strings.Fields(rec.Groups), Limits: who.Limits}
	if err := p.keeper.SaveSourcePerson(ctx, rec); err != nil { // also where another source was quicker with that name
		return login.Outcome{User: rec.Name, Known: true, Why: reason.Of(reason.NotRecorded, reason.With{reason.Error: err.Error()})}
	}
	return o
}

// holds tells why somebody of a source cannot have the name that they have there; none: they can, and rec has it as it was written first. A
// person is a name at one source: groups, factors, keys and sessions of the name are theirs, so it is never somebody else's, however either
// is written. The service's own come first; then who came first, as long as the plan has their source.
func (p *People) holds(ctx context.Context, rec *store.SourcePerson) reason.Reason {
	own, before, err := p.keeper.Spelled(ctx, rec.Name)
	failed := func(err error) reason.Reason {
		return reason.Of(reason.NotRecorded, reason.With{reason.Error: err.Error()})
	}
	switch {
	case err != nil:
		return failed(err)
	case own != "":
		return reason.Of(reason.SourceBars, reason.With{
			reason.Source: rec.Source, reason.Error: "one of the service's own users has that name",
		})
	case before == "":
		return reason.Reason{}
	}
	had, err := p.keeper.SourcePerson(ctx, before)
	switch {
	case err != nil:
		return failed(err)
	case had.Source == rec.Source:
		rec.Name = before
	case slices.ContainsFunc(p.Sources.Sources(), func(s source.Source) bool { return s.Settings().Name == had.Source }):
		return reason.Of(reason.NameHeld, reason.With{reason.Source: rec.Source, reason.Name: before, reason.By: had.Source})
	default: // whose source is gone has nothing here any more
		if err := p.keeper.ForgetSourcePerson(ctx, before); err != nil && !errors.Is(err, store.ErrNotFound) {
			return failed(err)
		}
	}
	return reason.Reason{}
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

func (p *People) record(s source.Source, who source.Person, now time.Time) store.SourcePerson {
	groups := source.Taken(s.Settings(), who.Groups, p.Sources.Groups())
	limits, err := json.Marshal(who.Limits)
	if err != nil || string(limits) == "{}" {
		limits = nil
	}
	return store.SourcePerson{
		Name: who.Login, Source: s.Settings().Name, FullName: who.FullName, Mail: who.Mail, Groups: strings.Join(groups, " "), Checked: now,
		Limits: string(limits), Class: who.Class,
	}
}

// limitsOf are those that a source gave somebody at their newest login.
func limitsOf(rec store.SourcePerson) (l login.Limits) {
	if rec.Limits != "" {
		_ = json.Unmarshal([]byte(rec.Limits), &l) // written by record
	}
	return l
}

// standing is who somebody of a source is now. Where it can be looked up it is, as often as the plan says; an error is that nobody knows.
func (p *People) standing(ctx context.Context, name string) (login.Standing, error) {
	rec, err := p.keeper.SourcePerson(ctx, name)
	if err != nil || p.Sources == nil {
		return login.Standing{}, store.ErrNotFound
	}
	all := p.Sources.Sources()
	i := slices.IndexFunc(all, func(s source.Source) bool { return s.Settings().Name == rec.Source })
	if i < 0 {
		return login.Standing{}, store.ErrNotFound // the plan has that source no more
	}
	d, now := all[i], time.Now()
	src := d.Settings()
	if d.Looks() && now.Sub(rec.Checked) >= src.LDAP().Again() {
		who, err := d.Look(ctx, name, nil)
		kind := source.KindOf(err)
		switch {
		case err == nil:
			fresh := p.record(d, who, now)
			fresh.Name, fresh.At, fresh.Hash = rec.Name, rec.At, rec.Hash
			rec = fresh
		case kind == source.Unknown || kind == source.Barred || kind == source.Expired:
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
	return login.Standing{Groups: strings.Fields(rec.Groups), Limits: limitsOf(rec)}, nil
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
		if source.KindOf(err) != source.Unknown {
			return login.Outcome{User: name, Known: true, Why: whyNot(d.Settings().Name, err)}
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
			return who.Login, source.Taken(d.Settings(), who.Groups, p.Sources.Groups()), fit(who.Login)
		case source.KindOf(err) != source.Unknown:
			return "", nil, fmt.Errorf("source %s: %w", d.Settings().Name, err)
		}
	}
	return "", nil, store.ErrNotFound
}

// Changed notes what a source says of somebody of its own while they are connected, and tells whether it said anything.
func (p *People) Changed(ctx context.Context, s source.Source, name string, c source.Change) (bool, error) {
	if c.Groups == nil && c.Longest == nil && c.Idle == nil {
		return false, nil
	}
	rec, err := p.keeper.SourcePerson(ctx, name)
	if err != nil {
		return false, err
	}
	l := limitsOf(rec)
	if c.Longest != nil {
		l.Longest = *c.Longest
	}
	if c.Idle != nil {
		l.Idle = *c.Idle
	}
	if c.Groups != nil {
		rec.Groups = strings.Join(source.Taken(s.Settings(), *c.Groups, p.Sources.Groups()), " ")
	}
	limits, err := json.Marshal(l)
	if err != nil {
		return false, err
	}
	rec.Limits = string(limits)
	return true, p.keeper.SaveSourcePerson(ctx, rec)
}

// Accounted is which source somebody came in by, and what it wants to be told again of their session; empty: none.
func (p *People) Accounted(ctx context.Context, name string) (string, [][]byte) {
	if _, err := p.keeper.User(ctx, name); err == nil {
		return "", nil
	}
	rec, _ := p.keeper.SourcePerson(ctx, name)
	return rec.Source, rec.Class
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
