package members

import (
	"context"
	"errors"
	"slices"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// SharedKeys lists keys that people and gateway both know, of one person or, where none is named, of everybody.
func (s *Service) SharedKeys(ctx context.Context, user string) ([]people.SharedKey, error) {
	if user != "" {
		if _, err := s.People.User(ctx, user); err != nil {
			return nil, refusal.Known(err, "user", user)
		}
	}
	return s.People.SharedKeys(ctx, user)
}

// MakeSharedKey makes a person a key that they and the gateway both know; its value is in the answer alone.
func (s *Service) MakeSharedKey(ctx context.Context, k people.SharedKey, value string) (people.SharedKey, error) {
	if _, err := s.People.User(ctx, k.User); err != nil {
		return people.SharedKey{}, refusal.Known(err, "user", k.User)
	}
	made, err := s.People.MakeShared(ctx, k, value)
	switch {
	case err == nil:
		return made, nil
	case errors.Is(err, store.ErrExists):
		return made, refusal.Conflict(k.User + " has a shared key to log in by already: take it back first " +
			"(yl users shared-keys revoke), which ends what it has open")
	case errors.Is(err, store.ErrNotFound):
		return made, refusal.Known(err, "user", k.User)
	}
	return made, refusal.Invalid(err.Error() + "; nothing was kept")
}

// RevokeSharedKey takes one back: what came in by it, or with it, ends at once.
func (s *Service) RevokeSharedKey(ctx context.Context, id string) error {
	if _, err := s.People.RemoveShared(ctx, id); err != nil {
		return refusal.Known(err, "shared key", id)
	}
	s.endWhere(func(live gateway.Session) bool { return slices.Contains(live.SharedKeys, id) })
	return nil
}

// endWhere ends the sessions of keys that were taken back.
func (s *Service) endWhere(of func(gateway.Session) bool) {
	all, _ := s.Gateway.Live()
	for _, live := range all {
		if !of(live) {
			continue
		}
		if id, err := session.ParseID(live.ID); err == nil {
			_ = s.Gateway.End(id, reason.Of(reason.KeyTakenBack, nil)) // it may have ended by itself meanwhile
		}
	}
}
