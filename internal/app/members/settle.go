package members

import (
	"context"
	"errors"
	"slices"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Keep holds live sessions against people if these have changed since that was done: what could not be done at once, for the gateway was
// away or the service was killed in between, is done then. People of sources may change there at any time.
func (s *Service) Keep(ctx context.Context) {
	version := s.Store.PeopleVersion() + 1 // never 0
	if s.settled.Load() != version && s.settleWhere(ctx, func(string) bool { return true }) {
		s.settled.Store(version)
		return
	}
	there, err := s.People.Elsewhere(ctx)
	if err != nil || len(there) == 0 {
		return
	}
	known := map[string]bool{}
	for _, x := range there {
		known[x.Name] = true
	}
	s.settleWhere(ctx, func(user string) bool { return known[user] })
}

// Settle holds a person's live sessions against what is known of them now.
func (s *Service) Settle(ctx context.Context, user string) { s.settle(ctx, user) }

func (s *Service) settle(ctx context.Context, user string) {
	s.settleWhere(ctx, func(name string) bool { return name == user })
}

// settleWhere ends the live sessions of those who may no longer log in, or are in other groups now: what a session may do was decided by
// the groups at login. Those that go on are told their person's limits. It is false where not all of it could be done.
func (s *Service) settleWhere(ctx context.Context, about func(user string) bool) bool {
	all, err := s.Gateway.Live()
	done := err == nil
	seen := map[string][]gateway.Session{}
	for _, live := range all {
		if about(live.User) {
			seen[live.User] = append(seen[live.User], live)
		}
	}
	for name, theirs := range seen {
		now, err := s.People.Standing(ctx, name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			done = false
			continue
		}
		why := reason.Of(reason.UserChanged, nil)
		if source := s.People.SourceOf(ctx, name); source != "" {
			why = reason.Of(reason.SourceGone, reason.With{reason.Source: source})
		}
		ended := 0
		for _, live := range theirs {
			why := why
			if before := live.Since.Before(now.Ended); before {
				why = reason.Of(reason.PasswordSet, nil)
			} else if len(now.Groups) > 0 && slices.Equal(slices.Sorted(slices.Values(live.Groups)), now.Groups) {
				continue
			}
			if id, err := session.ParseID(live.ID); err == nil {
				_ = s.Gateway.End(id, why) // it may have ended by itself meanwhile
				ended++
			}
		}
		if ended < len(theirs) && s.Gateway.Limit(name, now.Limits) != nil {
			done = false
		}
	}
	return done
}
