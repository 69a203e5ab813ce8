package members

import (
	"context"
	"crypto/x509"
	"errors"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Keys lists people's keys, of one person or, where none is named, of everybody.
func (s *Service) Keys(ctx context.Context, user string) ([]people.Key, error) {
	if user != "" {
		if _, err := s.People.User(ctx, user); err != nil {
			return nil, refusal.Known(err, "user", user)
		}
	}
	return s.People.Keys(ctx, user)
}

// AddKey gives a person the key of one of their devices: a public key, or a signing request, for which the own authority issues a
// certificate; PEM. For a key that they have already a signing request gives it a newer certificate, which counts from then on.
func (s *Service) AddKey(ctx context.Context, user, device, public string) (people.Key, error) {
	if _, err := s.People.User(ctx, user); err != nil {
		return people.Key{}, refusal.Known(err, "user", user)
	}
	spki, request, err := people.ReadPublic(public)
	if err != nil {
		return people.Key{}, refusal.Invalid(err.Error() + "; nothing was kept")
	}
	if name, taken := s.Trust.OwnKey(ctx, spki); taken {
		return people.Key{}, refusal.Invalid("this is the key of certificate " + name + " of the gateway's: give the person's own; " +
			"nothing was kept")
	}
	if !request {
		k, err := s.People.AddKey(ctx, user, device, spki, nil)
		return k, taken(err, user)
	}
	add := s.People.AddKey
	switch old, err := s.Store.Key(ctx, cert.Fingerprint(spki)); {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return people.Key{}, err
	case old.User != user || !old.Revoked.IsZero() || old.Serial == "": // before anything is signed
		return people.Key{}, taken(store.ErrExists, user)
	default: // the certificate that it has is to be another, with a new time
		add = s.People.RenewKey
	}
	leaf, err := s.Trust.IssuePerson(ctx, user, device, spki)
	if err != nil {
		return people.Key{}, err
	}
	k, err := add(ctx, user, device, spki, leaf)
	return k, taken(err, user)
}

func taken(err error, user string) error {
	if errors.Is(err, store.ErrExists) {
		return refusal.Conflict("somebody has this key already, or had it: make another one on the device (yl users keys list)")
	}
	return refusal.Known(err, "user", user)
}

// RevokeKey takes a key back; what its device has open ends at once.
func (s *Service) RevokeKey(ctx context.Context, fingerprint string) error {
	k, err := s.People.RevokeKey(ctx, fingerprint)
	if err != nil {
		return refusal.Known(err, "key", fingerprint)
	}
	s.endWhere(func(live gateway.Session) bool { return live.Key == fingerprint })
	for _, serial := range []string{k.Serial, k.NextSerial} {
		if serial == "" || k.Authority != "" { // another authority's list is not ours to write
			continue
		}
		err := s.Trust.RevokeSerial(ctx, serial, "its key was taken back")
		var clash *refusal.Error
		if err != nil && (!errors.As(err, &clash) || clash.Sort != refusal.Clashes) { // otherwise it is on the list already
			return err
		}
	}
	return nil
}

// Renew gives a device a newer certificate for the key that it signed a request with.
func (s *Service) Renew(ctx context.Context, request string) (string, error) {
	text, err := s.People.NextCertificate(ctx, request, time.Now(), func(user, device string, spki []byte) (*x509.Certificate, error) {
		leaf, err := s.Trust.IssuePerson(ctx, user, device, spki)
		if err == nil {
			about := reason.With{reason.What: device, reason.Until: leaf.NotAfter.Format(time.DateOnly)}
			s.Journal.Tell(reason.Of(reason.PersonRenewed, about), user)
		}
		return leaf, err
	})
	switch {
	case errors.Is(err, people.ErrNotDue):
		return "", refusal.Conflict(err.Error())
	case err != nil:
		return "", refusal.Invalid(err.Error())
	}
	return text, nil
}

// RevokedSerial takes back the key of a certificate that was revoked.
func (s *Service) RevokedSerial(ctx context.Context, serial string) {
	keys, err := s.Store.Keys(ctx, "")
	if err != nil {
		return
	}
	for _, k := range keys {
		if k.Serial == serial && k.Authority == "" && k.Revoked.IsZero() {
			if _, err := s.People.RevokeKey(ctx, k.Fingerprint); err == nil {
				s.endWhere(func(live gateway.Session) bool { return live.Key == k.Fingerprint })
			}
		}
	}
}
