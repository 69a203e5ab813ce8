package members

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// FactorPath begins the path of a link by which somebody gets a second factor; the token follows.
const FactorPath = "/second-factor/"

// somebody tells whether a name is one of the service's own, or of somebody of a source who came in before.
func (s *Service) somebody(ctx context.Context, name string) error {
	_, err := s.People.User(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		if there, gone := s.Store.SourcePerson(ctx, name); gone == nil && !there.Gone {
			return nil
		}
	}
	return refusal.Known(err, "user", name)
}

// Factors lists second factors, of one person or, where none is named, of everybody.
func (s *Service) Factors(ctx context.Context, name string) ([]people.Factor, error) {
	return s.People.Factors(ctx, name)
}

// FactorLink makes a link by which somebody gets a second factor. One that they had before is worth nothing any more.
func (s *Service) FactorLink(ctx context.Context, name string, lasts time.Duration) (Choice, error) {
	if err := s.somebody(ctx, name); err != nil {
		return Choice{}, err
	}
	return s.link(ctx, store.ForFactor, FactorPath, name, lasts)
}

// link makes a link by which somebody does something once.
func (s *Service) link(ctx context.Context, what, path, name string, lasts time.Duration) (Choice, error) {
	if lasts == 0 {
		lasts = defaultChoice
	}
	if lasts < time.Minute || lasts > longestChoice {
		return Choice{}, refusal.Invalid("a link counts from a minute to 30 days")
	}
	token, now := rand.Text(), time.Now().UTC()
	l := store.PersonLink{Hash: digestOf(token), User: name, What: what, By: actor.Name(ctx), At: now, Until: now.Add(lasts)}
	if err := s.Store.AddPersonLink(ctx, l); err != nil {
		return Choice{}, err
	}
	return Choice{User: name, URL: s.At() + path + token, Expires: l.Until}, nil
}

// Enrolling is a second factor that somebody is about to have.
type Enrolling struct {
	User, Site string
	Secret     onetime.Secret
}

// LookFactor tells whether a link counts; ErrChoice where it does no more. It shows nothing: whoever scans mail opens links.
func (s *Service) LookFactor(ctx context.Context, token string) error {
	_, err := s.Store.PersonLink(ctx, store.ForFactor, digestOf(token))
	if errors.Is(err, store.ErrNotFound) {
		return ErrChoice
	}
	return err
}

// BeginFactor shows what somebody's device is to be told: the same however often it is asked for.
func (s *Service) BeginFactor(ctx context.Context, token string) (e Enrolling, err error) {
	l, err := s.Store.PersonLink(ctx, store.ForFactor, digestOf(token))
	var key []byte
	if err == nil {
		key, err = s.Store.ShownBy(ctx, l.Hash, func() ([]byte, error) {
			made, err := onetime.New(onetime.ByTime)
			return made.Octets(), err
		})
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return e, ErrChoice
	case err != nil:
		return e, err
	}
	e = Enrolling{User: l.User, Site: "Yellow Lantern", Secret: onetime.Of(onetime.ByTime, key)}
	if newest, err := s.Store.Newest(ctx); err == nil {
		if doc, err := s.Wholes.Read(newest.Text); err == nil && doc.Plan.Name != "" {
			e.Site = doc.Plan.Name
		}
	}
	return e, nil
}

// TakeFactor takes the second factor of a link, once its person shows a code that their device made. It gives their recovery codes. A code
// that is wrong leaves the link as it is.
func (s *Service) TakeFactor(ctx context.Context, token, code string, from netip.Addr) ([]string, error) {
	e, err := s.BeginFactor(ctx, token)
	if err != nil {
		return nil, err
	}
	codes, err := s.People.AddFactor(ctx, e.User, "", e.Secret, &code, digestOf(token))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, ErrChoice
	case errors.Is(err, people.ErrFactors), errors.Is(err, people.ErrCode):
		return nil, refusal.Mistaken(err)
	case err != nil:
		return nil, err
	}
	s.enrolled(e.User, e.Secret.Kind, from.String())
	return codes, nil
}

func (s *Service) enrolled(user, kind, from string) {
	what := "codes by time"
	if kind == onetime.ByCounter {
		what = "codes by a counter"
	}
	s.Journal.Tell(reason.Of(reason.FactorEnrolled, reason.With{reason.What: what, reason.Source: from}), user)
}

// NewFactor is a device that gives codes and whose secret its maker told.
type NewFactor struct {
	Kind   string `json:"kind" enum:"time,counter" doc:"Whether its codes are made by time or by a counter."`
	Secret string `json:"secret" maxLength:"256" doc:"Its secret, in base32 (RFC 4648)."`
	Device string `json:"device,omitempty" maxLength:"63" doc:"What it is."`
}

// AddFactor gives somebody such a device. It gives their recovery codes.
func (s *Service) AddFactor(ctx context.Context, name string, n NewFactor) ([]string, error) {
	if err := s.somebody(ctx, name); err != nil {
		return nil, err
	}
	secret, err := onetime.Read(n.Kind, n.Secret)
	if err != nil {
		return nil, refusal.Invalid(err.Error() + "; nothing was kept")
	}
	codes, err := s.People.AddFactor(ctx, name, n.Device, secret, nil, "")
	if errors.Is(err, people.ErrFactors) {
		return nil, refusal.Mistaken(err)
	}
	if err == nil {
		s.enrolled(name, n.Kind, "administrator "+actor.Name(ctx))
	}
	return codes, err
}

// Lost is what was done about a device that somebody lost.
type Lost struct {
	Choice
	Sessions int `json:"sessions" doc:"That were ended."`
	Factors  int `json:"factors" doc:"Second factors that were forgotten."`
	Keys     int `json:"keys" doc:"Keys and certificates that were taken back."`
}

// LostDevice does what is to be done when somebody lost the device that gives their codes, or by which they come: their sessions end,
// second factors and what was remembered of devices are forgotten, and there is a link by which they get another. Keys on the device are
// taken back where it is named.
func (s *Service) LostDevice(ctx context.Context, name, device string) (out Lost, err error) {
	if err := s.somebody(ctx, name); err != nil {
		return out, err
	}
	if device != "" {
		keys, err := s.People.Keys(ctx, name)
		if err != nil {
			return out, err
		}
		for _, k := range keys {
			if k.Device != device || !k.Revoked.IsZero() {
				continue
			}
			if err := s.RevokeKey(ctx, k.Fingerprint); err != nil {
				return out, err
			}
			out.Keys++
		}
		if out.Keys == 0 {
			return out, refusal.Missing(fmt.Sprintf("%s has no key on a device %q (yl users keys list %s); nothing was done", name, device,
				name))
		}
	}
	if out.Factors, err = s.People.ForgetFactors(ctx, name); err != nil {
		return out, err
	}
	if err := s.Store.ForgetDevices(ctx, name); err != nil {
		return out, err
	}
	if out.Choice, err = s.FactorLink(ctx, name, 0); err != nil {
		return out, err
	}
	why := reason.Of(reason.FactorForgotten, reason.With{reason.Administrator: actor.Name(ctx)})
	live, err := s.Gateway.Live()
	for _, x := range live {
		if id, bad := session.ParseID(x.ID); bad == nil && x.User == name && s.Gateway.End(id, why) == nil {
			out.Sessions++
		}
	}
	s.Journal.Tell(reason.Of(reason.DeviceLost, reason.With{
		reason.Administrator: actor.Name(ctx),
		reason.Count:         strconv.Itoa(out.Sessions),
	}), name)
	return out, err
}

// ForgetFactors forgets somebody's second factors and which devices were remembered; their sessions go on.
func (s *Service) ForgetFactors(ctx context.Context, name string) error {
	n, err := s.People.ForgetFactors(ctx, name)
	if err == nil && n == 0 {
		return refusal.Missing(name + " has no second factor")
	}
	return err
}
