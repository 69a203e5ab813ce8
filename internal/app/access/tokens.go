package access

import (
	"cmp"
	"context"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/store"
)

// tokenDays is for how long a token is good that says nothing.
const tokenDays = 365

// MakeToken makes an API token for something, good for some days (0: a year), and tells it once.
func (s *Service) MakeToken(ctx context.Context, name string, days int, role string) (string, error) {
	if role != "" && !IsRole(role) {
		return "", refusal.Invalid("there is no such role: " + strings.Join(Roles, ", "))
	}
	who := actor.Of(ctx)
	if role == "" {
		role = who.Narrowed // a narrow token makes no wider one
	} else if !within(who.Role, role) || who.Narrowed != "" && !within(who.Narrowed, role) {
		return "", &refusal.Error{Sort: refusal.Denied, Words: "a token can do no more than whoever makes it: " + who.Rights()}
	}
	secret := newSecret()
	err := s.Store.AddToken(ctx, store.Token{
		Hash: digest(secret), Name: name, Administrator: actor.Name(ctx), Role: role,
		At: time.Now().UTC(), Expires: time.Now().UTC().AddDate(0, 0, cmp.Or(days, tokenDays)),
	})
	return secret, err
}

// TokenInfo is what may be told of an API token.
type TokenInfo struct {
	ID            string    `json:"id"`
	Name          string    `json:"name" doc:"What it is for."`
	Administrator string    `json:"administrator"`
	At            time.Time `json:"at"`
	Role          string    `json:"role,omitempty" enum:"administrator,operator,help-desk,auditor" doc:"It can do no more than this role; empty: as its administrator."`
	Used          time.Time `json:"used,omitzero" doc:"When it was used last."`
	Expires       time.Time `json:"expires,omitzero" doc:"After that it is worth nothing; not there, of older ones: never."`
}

// tokenIDLen is how much of a token's hash names it: enough to tell tokens apart, and no help in guessing one.
const tokenIDLen = 12

// Tokens lists all API tokens, without their secrets.
func (s *Service) Tokens(ctx context.Context) ([]TokenInfo, error) {
	ts, err := s.Store.Tokens(ctx)
	out := make([]TokenInfo, 0, len(ts))
	for _, t := range ts {
		out = append(out, TokenInfo{t.Hash[:tokenIDLen], t.Name, t.Administrator, t.At, t.Role, t.Used, t.Expires})
	}
	return out, err
}

// RemoveToken makes an API token worthless: by its id, or own for the one that is used.
func (s *Service) RemoveToken(ctx context.Context, id string) error {
	name := id
	if hash := actor.Of(ctx).Credential; id == "own" && hash != "" {
		id = hash[:tokenIDLen]
	}
	ts, err := s.Store.Tokens(ctx)
	if err != nil {
		return err
	}
	for _, t := range ts {
		if t.Hash[:tokenIDLen] == id {
			if who := actor.Of(ctx); t.Administrator != who.Name && !whole(who) {
				return &refusal.Error{Sort: refusal.Denied, Words: "that token is another's: an administrator can take it away"}
			}
			err := s.Store.RemoveToken(ctx, t.Hash)
			s.credentials.end(t.Hash)
			return refusal.Known(err, "token", name)
		}
	}
	return refusal.Known(store.ErrNotFound, "token", name)
}

// NewSetupCode makes the code by which the first administrator is named.
func NewSetupCode() string { return newSecret()[:20] }
