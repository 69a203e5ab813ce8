package access

import (
	"context"
	"errors"
	"strings"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people"
)

// Factors keeps second factors.
type Factors interface {
	HasFactor(ctx context.Context, user string) (bool, error)
	Code(context.Context, login.Code) login.Outcome
	AddFactor(ctx context.Context, user, device string, s onetime.Secret, code *string, link string) ([]string, error)
	ForgetFactors(ctx context.Context, user string) (int, error)
}

// factorName is under which name an administrator's second factor is kept: no person's name can begin so.
func factorName(administrator string) string { return "~administrator-" + administrator }

// OwnEnrolling is a second factor that an administrator is about to have.
type OwnEnrolling struct {
	Secret string `json:"secret" doc:"To be typed into an app that makes codes by time."`
	URI    string `json:"uri" doc:"The same for a picture."`
	// Picture is drawn at the edge.
	Picture []byte `json:"picture,omitempty" doc:"The picture, PNG, which such an app reads."`
}

// BeginFactor shows a secret; nothing is kept until a code of it comes with it.
func (s *Service) BeginFactor(ctx context.Context) (OwnEnrolling, error) {
	made, err := onetime.New(onetime.ByTime)
	return OwnEnrolling{Secret: made.Text(), URI: made.URI("Yellow Lantern", actor.Name(ctx))}, err
}

// TakeFactor takes one's own second factor with a code that it made, and the password, so that whoever got hold of a token cannot shut its
// administrator out. It gives the recovery codes, which are told once.
func (s *Service) TakeFactor(ctx context.Context, password, secret, code string) ([]string, error) {
	name := actor.Name(ctx)
	if _, _, err := s.verify(ctx, Credentials{Name: name, Password: password}); err != nil && !codeWanted(err) {
		return nil, err
	}
	has, err := s.Factors.HasFactor(ctx, factorName(name))
	if err != nil {
		return nil, err
	}
	if has {
		return nil, refusal.Conflict("you have a second factor already: forget that one first")
	}
	made, err := onetime.Read(onetime.ByTime, secret)
	if err != nil {
		return nil, refusal.Mistaken(err)
	}
	codes, err := s.Factors.AddFactor(ctx, factorName(name), "", made, &code, "")
	if errors.Is(err, people.ErrCode) {
		return nil, refusal.Mistaken(err)
	}
	if err == nil {
		s.Journal.Tell(reason.Of(reason.FactorEnrolled, reason.With{
			reason.What:   "codes by time",
			reason.Source: actor.Of(ctx).From.String(),
		}), name)
	}
	return codes, err
}

// ForgetFactor forgets one's own, with the password and a code of it.
func (s *Service) ForgetFactor(ctx context.Context, c Credentials) error {
	c.Name = actor.Name(ctx)
	if _, _, err := s.verify(ctx, c); err != nil {
		return err
	}
	_, err := s.Factors.ForgetFactors(ctx, factorName(c.Name))
	return err
}

// codeWanted tells whether a sign-in is refused because a code is wanted, and nothing else is wrong.
func codeWanted(err error) bool {
	var no *refusal.Error
	return errors.As(err, &no) && no.Reason.Code == reason.CodeWanted
}

// proves tells why a sign-in with a right password is not taken yet: nil where the administrator has no second factor, or gave a code of
// it, or touched a security key.
func (s *Service) proves(ctx context.Context, name string, c Credentials) error {
	has, err := s.Factors.HasFactor(ctx, factorName(name))
	if err != nil || !has {
		return err
	}
	code := login.Code{User: factorName(name), Code: c.Code}
	switch {
	case c.Key != "":
		if code.Touch, err = s.touch(ctx); err != nil {
			return err
		}
		code.Touch.Answer = []byte(c.Key)
	case strings.TrimSpace(c.Code) == "":
		return refusal.Because(refusal.Unproved, reason.Of(reason.CodeWanted, nil))
	}
	if o := s.Factors.Code(ctx, code); !o.OK {
		words := "the code is wrong: look whether the device's clock is right"
		switch o.Why.Code {
		case reason.CodeUsed:
			words = "the code was used already: wait for the next one"
		case reason.CodeWaits:
			words = "too many wrong codes: wait a while"
		case reason.SecurityKeyWrong, reason.NoSecurityKey:
			words = o.Why.Words()
		}
		return &refusal.Error{Sort: refusal.Unproved, Words: words, Reason: o.Why}
	}
	return nil
}
