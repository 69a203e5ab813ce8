package access

import (
	"context"
	"errors"
	"net/netip"
	"net/url"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// KeyAsked is what a security key is to answer.
type KeyAsked struct {
	Options string `json:"options" doc:"For the browser, JSON."`
}

// touch is a step with a security key at the page that asks: keys are bound to its name, so it must have one.
func (s *Service) touch(ctx context.Context) (*login.Touch, error) {
	origin := actor.Of(ctx).Origin
	u, err := url.Parse(origin)
	if err != nil || u.Hostname() == "" {
		return nil, refusal.Invalid("a security key is used in a browser")
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return nil, refusal.Invalid("a security key is bound to a name, and this page was opened by an address: open it as https://NAME, " +
			"or as http://localhost on this machine")
	}
	return &login.Touch{Page: u.Hostname(), Origin: origin, Title: "Yellow Lantern"}, nil
}

// ask asks for what a key is to answer.
func (s *Service) ask(ctx context.Context, name string, adds bool) (KeyAsked, error) {
	t, err := s.touch(ctx)
	if err != nil {
		return KeyAsked{}, err
	}
	t.Adds = adds
	o := s.Factors.Code(ctx, login.Code{User: factorName(name), Touch: t})
	if o.Why.Code != reason.SecurityKeyAsked {
		return KeyAsked{}, refusal.Invalid(o.Why.Words())
	}
	return KeyAsked{string(o.Asked)}, nil
}

// AskKey asks, for a sign-in with a right password, what a security key is to answer in place of a code.
func (s *Service) AskKey(ctx context.Context, c Credentials) (KeyAsked, error) {
	c.Code, c.Key = "", ""
	a, _, err := s.verify(ctx, c)
	switch {
	case err == nil:
		return KeyAsked{}, refusal.Conflict("no second factor is wanted")
	case !codeWanted(err):
		return KeyAsked{}, err
	}
	return s.ask(ctx, a.Name, false)
}

// BeginKey asks for a security key that is to be one's own second factor.
func (s *Service) BeginKey(ctx context.Context) (KeyAsked, error) {
	return s.ask(ctx, actor.Name(ctx), true)
}

// AddKey adds it, with the password, and a code where there is a second factor already. It gives recovery codes where it is the first.
func (s *Service) AddKey(ctx context.Context, c Credentials, called string) ([]string, error) {
	answer := c.Key
	c.Name, c.Key = actor.Name(ctx), ""
	if _, _, err := s.verify(ctx, c); err != nil {
		return nil, err
	}
	t, err := s.touch(ctx)
	if err != nil {
		return nil, err
	}
	if answer == "" {
		return nil, refusal.Mistaken(errors.New("the security key has not answered"))
	}
	t.Adds, t.Name, t.Answer = true, called, []byte(answer)
	o := s.Factors.Code(ctx, login.Code{User: factorName(c.Name), Touch: t})
	if !o.OK {
		return nil, refusal.Invalid(o.Why.Words())
	}
	s.Journal.Tell(reason.Of(reason.FactorEnrolled, reason.With{
		reason.What: "a security key (" + called + ")", reason.Source: actor.Of(ctx).From.String(),
	}), c.Name)
	return append([]string{}, o.Recovery...), nil
}
