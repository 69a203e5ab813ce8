package members

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// PasswordPath begins the path of a link by which somebody chooses a password; the token follows.
const PasswordPath = "/password/"

// How long such links count.
const (
	defaultChoice = 48 * time.Hour
	longestChoice = 30 * 24 * time.Hour
)

// Choice is a link by which a person chooses a password, once.
type Choice struct {
	User    string    `json:"user"`
	URL     string    `json:"url" doc:"Shown this once; a path alone where the service knows no address that people reach."`
	Expires time.Time `json:"expires"`
}

// ErrChoice is what whoever has a link that counts no more is told, whatever it was.
var ErrChoice = errors.New("it was used already, its time is over, or it was mistyped: ask for another one")

// PasswordLink makes a link by which somebody chooses a password. One that they had before is worth nothing any more.
func (s *Service) PasswordLink(ctx context.Context, name string, lasts time.Duration) (Choice, error) {
	if _, err := s.People.User(ctx, name); err != nil {
		return Choice{}, refusal.Known(err, "user", name)
	}
	return s.link(ctx, store.ForPassword, PasswordPath, name, lasts)
}

// Chooser is whose link it is; ErrChoice where it counts no more.
func (s *Service) Chooser(ctx context.Context, token string) (user string, err error) {
	l, err := s.Store.PersonLink(ctx, store.ForPassword, digestOf(token))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return "", ErrChoice
	case err != nil:
		return "", err
	}
	return l.User, nil
}

// Choose takes the password that somebody chose by a link, which is used up then. A password that will not do leaves it as it is.
func (s *Service) Choose(ctx context.Context, token, secret string, from netip.Addr) error {
	name, err := s.Chooser(ctx, token)
	if err != nil {
		return err
	}
	u, err := s.People.User(ctx, name)
	if err == nil {
		err = u.Fit(secret)
	}
	if err != nil {
		return refusal.Mistaken(err)
	}
	if err := s.Store.UsePersonLink(ctx, store.ForPassword, digestOf(token)); errors.Is(err, store.ErrNotFound) {
		return ErrChoice
	} else if err != nil {
		return err
	}
	if err := s.People.SetPassword(ctx, name, secret, false, false); err != nil {
		return fmt.Errorf("the password was not taken: %w", err)
	}
	s.Journal.Tell(reason.Of(reason.PasswordChosen, reason.With{reason.Source: from.String()}), name)
	return nil
}
