package people

import (
	"context"
	"errors"
	"time"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
)

// Choose takes a password that somebody chose in the login itself, in place of one that they handed over and that counts only for that: is
// is what that came to. Where the next one will not do, the outcome says so.
func (p *People) Choose(ctx context.Context, is login.Outcome, old, next string, call login.Call) login.Outcome {
	unfit := func(why error) login.Outcome {
		return login.Outcome{User: is.User, Known: true, Why: reason.Of(reason.PasswordUnfit, reason.With{reason.Error: why.Error()})}
	}
	if next == old {
		return unfit(errors.New("it is the one that was to be changed"))
	}
	var o login.Outcome
	if is.Source != "" {
		by := p.changer(is.Source)
		if by == nil { // the plan has changed meanwhile
			return is
		}
		if err := password.Check(next, password.Least, is.User); err != nil {
			return unfit(err)
		}
		if err := by.Change(ctx, source.Call{User: is.User, Password: old, From: call.From}, next); err != nil {
			if source.KindOf(err) == source.Unfit {
				return unfit(err)
			}
			return login.Outcome{User: is.User, Known: true, Why: whyNot(is.Source, err)}
		}
		o = p.elsewhere(ctx, source.Call{User: is.User, Password: next, From: call.From})
	} else {
		r, kept, err := p.keeper.Password(ctx, is.User)
		if err != nil || !kept.Is(old) || !user(r).MustChange { // somebody else has changed it meanwhile
			return is
		}
		u := user(r)
		if why := u.Bar(time.Now()); !why.None() {
			return login.Outcome{User: u.Name, Known: true, Why: why}
		}
		if err := u.Fit(next); err != nil {
			return unfit(err)
		}
		if err := p.write(ctx, u.Name, func() error { return p.keeper.SetPassword(ctx, u.Name, p.chosen(u, next, false)) }); err != nil {
			return login.Outcome{User: u.Name, Known: true, Why: reason.Of(reason.PasswordUnchecked,
				reason.With{reason.Error: err.Error()})}
		}
		o = p.outcome(ctx, u.Name)
	}
	p.asks(ctx, &o, call)
	return o
}

// changer is a source by its name, where passwords can be changed; nil: they cannot.
func (p *People) changer(name string) source.Changer {
	for _, s := range p.Sources.Sources() {
		if by, can := s.(source.Changer); can && s.Settings().Name == name && by.Changes() {
			return by
		}
	}
	return nil
}
