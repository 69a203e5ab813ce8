package access

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Administrator is somebody who may use the service.
type Administrator struct {
	Name       string    `json:"name"`
	Role       string    `json:"role" enum:"administrator,operator,help-desk,auditor"`
	MustChange bool      `json:"must-change,omitempty" doc:"Their password was made for them: it counts only to choose another with."`
	Source     string    `json:"source,omitempty" doc:"The source that they are of; none: the service's own."`
	LastResort bool      `json:"last-resort,omitempty" doc:"The others are people of sources: this one signs in when those do not answer, which is an alarm."`
	Idle       bool      `json:"does-not-sign-in,omitempty" doc:"They do not sign in as the plan is: they are the service's own where the others are people of sources, or are no administrator there any more."`
	Factor     bool      `json:"second-factor,omitempty" doc:"They have a second factor."`
	At         time.Time `json:"at"`
	Sessions   int       `json:"sessions" doc:"Browsers in which they are signed in."`
	Tokens     int       `json:"tokens" doc:"API tokens of theirs."`
}

// NewAdministrator is one with the password that was made for them.
type NewAdministrator struct {
	Administrator
	Password string `json:"password" doc:"Shown this once; it counts only to choose another with."`
}

// Administrators lists them.
func (s *Service) Administrators(ctx context.Context) ([]Administrator, error) {
	all, err := s.Store.Administrators(ctx)
	if err != nil {
		return nil, err
	}
	tokens, err := s.Store.Tokens(ctx)
	keepers, p := s.keepers()
	out := []Administrator{}
	for _, a := range all {
		x := Administrator{Name: a.Name, Role: a.Role, MustChange: a.MustChange, At: a.At, Source: a.Source}
		if len(keepers) > 0 && a.Source == "" {
			x.LastResort, x.Idle = a.Name == p.LastResort, a.Name != p.LastResort
		}
		if a.Source != "" {
			x.Idle = !s.Stands(ctx, &a)
			x.Role = cmp.Or(a.Role, x.Role)
		}
		browsers, bad := s.Store.ConsoleSessions(ctx, a.Name)
		has, worse := s.Factors.HasFactor(ctx, factorName(a.Name))
		if err = errors.Join(err, bad, worse); err != nil {
			return nil, err
		}
		x.Sessions, x.Factor = len(browsers), has
		for _, t := range tokens {
			if t.Administrator == a.Name {
				x.Tokens++
			}
		}
		out = append(out, x)
	}
	return out, err
}

// AddAdministrator adds one, with a password that is made for them.
func (s *Service) AddAdministrator(ctx context.Context, name, role string) (NewAdministrator, error) {
	if err := fitName(name); err != nil {
		return NewAdministrator{}, refusal.Mistaken(err)
	}
	if !IsRole(role) {
		return NewAdministrator{}, refusal.Invalid("there is no such role: " + strings.Join(Roles, ", "))
	}
	made, hash, err := s.made(name)
	if err != nil {
		return NewAdministrator{}, err
	}
	if err := s.inHand(ctx, name); err != nil {
		return NewAdministrator{}, err
	}
	a := store.Administrator{Name: name, Hash: hash, Role: role, MustChange: true, At: time.Now().UTC()}
	if err := s.Store.AddAdministrator(ctx, a); errors.Is(err, store.ErrExists) {
		return NewAdministrator{}, refusal.Conflict("there is an administrator " + name + " already")
	} else if err != nil {
		return NewAdministrator{}, err
	}
	s.Journal.Tell(reason.Of(reason.AdministratorAdded, reason.With{reason.Administrator: actor.Name(ctx), reason.What: role}), name)
	return NewAdministrator{Administrator{Name: name, Role: role, MustChange: true, At: a.At}, made}, nil
}

func (s *Service) made(name string) (secret, hash string, err error) {
	if secret, err = password.New(rand.Reader); err == nil {
		hash, err = s.hashed(secret)
	}
	return secret, hash, err
}

func fitName(name string) error {
	if len(name) < 1 || len(name) > 64 || strings.ContainsFunc(name,
		func(r rune) bool { return r <= ' ' || r == 0x7f || r == '~' || r == '/' }) {
		return errors.New("give the administrator a name of up to 64 characters without spaces, ~ and /")
	}
	return nil
}

// ChangeRole gives an administrator another role. What they have open ends: it was opened by the former one.
func (s *Service) ChangeRole(ctx context.Context, name, role string) error {
	if !IsRole(role) {
		return refusal.Invalid("there is no such role: " + strings.Join(Roles, ", "))
	}
	if a, err := s.Store.Administrator(ctx, name); err == nil && a.Source != "" {
		return refusal.Conflict("what " + name + " may do follows from their groups in source " + a.Source +
			": change administrators in the plan")
	}
	if err := s.inHand(ctx, name); err != nil {
		return err
	}
	if err := s.notLast(s.Store.SetRole(ctx, name, role), name); err != nil {
		return err
	}
	s.credentials.endOf(name)
	s.Journal.Tell(reason.Of(reason.AdministratorChanged, reason.With{reason.Administrator: actor.Name(ctx), reason.What: role}), name)
	return nil
}

// RemoveAdministrator removes one; what they have open ends.
func (s *Service) RemoveAdministrator(ctx context.Context, name string) error {
	if named := s.Plan().Needs(plan.KeptAdministrator, name); len(named) > 0 {
		return refusal.Conflict(fmt.Sprintf("%s of the running plan names %s: commit a plan without it first", named[0], name))
	}
	if err := s.notLast(s.Store.RemoveAdministrator(ctx, name), name); err != nil {
		return err
	}
	s.credentials.endOf(name)
	_, err := s.Factors.ForgetFactors(ctx, factorName(name))
	s.Journal.Tell(reason.Of(reason.AdministratorRemoved, reason.With{reason.Administrator: actor.Name(ctx)}), name)
	return err
}

func (s *Service) notLast(err error, name string) error {
	if errors.Is(err, store.ErrLast) {
		return refusal.Conflict(name + " is the last administrator who may do everything: make another one first")
	}
	return refusal.Known(err, "administrator", name)
}

// MakePassword makes an administrator another password; what they have open ends. forget forgets their second factor too, which they set
// up anew; of an administrator of a source it is that alone.
func (s *Service) MakePassword(ctx context.Context, name string, forget bool) (string, error) {
	if a, err := s.Store.Administrator(ctx, name); err == nil && a.Source != "" {
		if !forget {
			return "", refusal.Conflict("the password of " + name + " is that of source " + a.Source + ": it is changed there")
		}
		if err := s.inHand(ctx, name); err != nil {
			return "", err
		}
		return "", s.forgetAll(ctx, name)
	}
	secret, hash, err := s.made(name)
	if err != nil {
		return "", err
	}
	if err := s.inHand(ctx, name); err != nil {
		return "", err
	}
	ended, err := s.Store.SetAdministratorPassword(ctx, name, hash, "", true)
	if err != nil {
		return "", refusal.Known(err, "administrator", name)
	}
	for _, h := range ended {
		s.credentials.end(h)
	}
	if forget {
		if _, err := s.Factors.ForgetFactors(ctx, factorName(name)); err != nil {
			return "", err
		}
	}
	s.Journal.Tell(reason.Of(reason.AdministratorPassword, reason.With{reason.Administrator: actor.Name(ctx)}), name)
	return secret, nil
}

// inHand notes that an administrator made or changed another: for a while, what that one approves is no other's approval. It is noted
// before it is done, for it must not be done without.
func (s *Service) inHand(ctx context.Context, name string) error {
	return s.Store.AddHand(ctx, store.Hand{Administrator: name, By: actor.Name(ctx), At: time.Now()})
}

// forgetAll forgets an administrator's second factor, and signs them out.
func (s *Service) forgetAll(ctx context.Context, name string) error {
	_, err := s.Factors.ForgetFactors(ctx, factorName(name))
	if err == nil {
		_, err = s.EndSessions(ctx, name)
	}
	return err
}

// EndSessions signs an administrator out everywhere. It gives how many browsers that were; their tokens stay.
func (s *Service) EndSessions(ctx context.Context, name string) (int, error) {
	if _, err := s.Store.Administrator(ctx, name); err != nil {
		return 0, refusal.Known(err, "administrator", name)
	}
	all, err := s.Store.ConsoleSessions(ctx, name)
	for _, c := range all {
		if err := s.Store.EndConsoleSession(ctx, c.Hash); err != nil {
			return 0, err
		}
		s.credentials.end(c.Hash)
	}
	return len(all), err
}
