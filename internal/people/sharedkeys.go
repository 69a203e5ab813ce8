package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// SharedKey is a key that a person and the gateway both know. Its value is told once, when it is made.
type SharedKey struct {
	ID      string    `json:"id" doc:"No secret; one that is mixed in is named so by its device."`
	User    string    `json:"user"`
	Device  string    `json:"device,omitempty" doc:"What it is on."`
	Use     string    `json:"use" enum:"login,mixed-in" doc:"login: by it device and gateway prove themselves to each other. mixed-in: it goes into keys for traffic (RFC 8784)."`
	Made    time.Time `json:"made"`
	Value   string    `json:"value,omitempty" doc:"In the answer to making it alone."`
	ForDial string    `json:"for-dial,omitempty" doc:"What a file for yl dial holds of it; in that answer alone."`
}

// Uses of shared keys.
const (
	UseLogin   = "login"
	UseMixedIn = "mixed-in"
)

func sharedOf(r store.PersonShared) SharedKey {
	k := SharedKey{ID: r.ID, User: r.User, Device: r.Device, Use: UseLogin, Made: r.At}
	if r.MixedIn {
		k.Use = UseMixedIn
	}
	return k
}

// SharedKeys lists them, of one person or of everybody, without their values.
func (p *People) SharedKeys(ctx context.Context, user string) ([]SharedKey, error) {
	records, err := p.keeper.PersonShareds(ctx, user)
	out := make([]SharedKey, 0, len(records))
	for _, r := range records {
		out = append(out, sharedOf(r))
	}
	return out, err
}

// MostSharedKey is how long one may be, in octets.
const MostSharedKey = 256

// ErrSharedByOther is a key that somebody else has already.
var ErrSharedByOther = errors.New("another person has this key, and each would log in as the other with it: give each their own")

// MakeShared makes a person a key. One to log in by may be given, for devices that cannot take another; else it is generated, as one that
// is mixed in always is.
func (p *People) MakeShared(ctx context.Context, k SharedKey, value string) (SharedKey, error) {
	random := make([]byte, 8+32)
	_, _ = rand.Read(random)
	k.ID, k.Made = hex.EncodeToString(random[:8]), time.Now().UTC()
	r := store.PersonShared{ID: k.ID, User: k.User, Device: k.Device, MixedIn: k.Use == UseMixedIn, At: k.Made}
	switch {
	case value == "":
		k.Value = base64.RawURLEncoding.EncodeToString(random[8:])
	case r.MixedIn:
		return k, errors.New("a key that is mixed in is generated: leave its value out")
	default:
		if err := p.goodShared(ctx, k.User, value); err != nil {
			return k, err
		}
	}
	secret := value
	if value == "" {
		secret = k.Value
	}
	if err := p.keeper.AddPersonShared(ctx, r, []byte(secret)); err != nil {
		return k, err
	}
	if k.ForDial = secret; r.MixedIn {
		k.ForDial = k.ID + " " + secret
	}
	return k, nil
}

// SharedToLogIn gives the key that a person logs in by, and makes one where they have none.
func (p *People) SharedToLogIn(ctx context.Context, user string) (string, error) {
	_, secret, err := p.keeper.PersonShared(ctx, false, user)
	if errors.Is(err, store.ErrNotFound) {
		made, err := p.MakeShared(ctx, SharedKey{User: user, Use: UseLogin}, "")
		return made.Value, err
	}
	return string(secret), err
}

// goodShared refuses a key that can be guessed, or that is somebody else's.
func (p *People) goodShared(ctx context.Context, user, value string) error {
	if len(value) > MostSharedKey {
		return fmt.Errorf("the key is longer than %d octets", MostSharedKey)
	}
	if err := cert.GoodShared(value); err != nil {
		return err
	}
	all, err := p.keeper.PersonShareds(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.MixedIn || r.User == user {
			continue
		}
		_, secret, err := p.keeper.PersonShared(ctx, false, r.User)
		if err == nil && subtle.ConstantTimeCompare(secret, []byte(value)) == 1 {
			return ErrSharedByOther
		}
	}
	return nil
}

// RemoveShared forgets a key, and gives what it was.
func (p *People) RemoveShared(ctx context.Context, id string) (SharedKey, error) {
	r, err := p.keeper.RemovePersonShared(ctx, id)
	return sharedOf(r), err
}

// Shared implements gateway.People.
func (p *People) Shared(ctx context.Context, ask login.SharedKey) login.Shared {
	refused := func(code reason.Code, with reason.With) login.Shared {
		return login.Shared{Outcome: login.Outcome{Why: reason.Of(code, with)}}
	}
	if t := p.testers.find(ask.Identity); t != nil {
		return login.Shared{
			ID: t.Name, Secret: []byte(t.Password),
			Outcome: login.Outcome{OK: true, User: t.Name, Known: true, Source: Source, Groups: t.groups},
		}
	}
	k, secret, err := p.keeper.PersonShared(ctx, ask.MixedIn, ask.Identity)
	switch {
	case errors.Is(err, store.ErrNotFound) && ask.MixedIn:
		return refused(reason.MixedKeyUnknown, reason.With{reason.What: quoted(ask.Identity)})
	case errors.Is(err, store.ErrNotFound):
		return refused(reason.SharedKeyUnknown, nil)
	case err != nil:
		return refused(reason.LoginsLater, reason.With{reason.Error: err.Error()})
	}
	u, err := p.User(ctx, k.User)
	out := login.Shared{ID: k.ID, Outcome: login.Outcome{User: k.User, Known: true, Why: u.Bar(time.Now())}}
	if err != nil {
		out.Why = reason.Of(reason.GroupsUnknown, nil)
	}
	if out.Why.None() {
		out.OK, out.Source, out.Groups, out.Limits, out.Secret = true, Source, u.Groups, u.limits(), secret
		out.Stamp, _ = p.sharedStamp(ctx, k)
	}
	return out
}

// quoted writes what a stranger calls a key.
func quoted(s string) string { return fmt.Sprintf("%q", s[:min(len(s), 40)]) }

// sharedPrefix begins the stamps of those who proved themselves by a shared key: its ID follows.
const sharedPrefix = "shared "

func (p *People) sharedStamp(ctx context.Context, k store.PersonShared) (string, error) {
	own, err := p.keeper.Stamp(ctx, k.User)
	if err != nil || own == "" {
		return "", err
	}
	return sharedPrefix + k.ID + " " + hashed(own), nil
}

// sharedStampNow is what such a stamp would be now.
func (p *People) sharedStampNow(ctx context.Context, user, rest string) (string, error) {
	id, _, _ := strings.Cut(rest, " ")
	k, _, err := p.keeper.PersonShared(ctx, false, user)
	if err != nil || k.ID != id {
		return "", err
	}
	return p.sharedStamp(ctx, k)
}

// kindOfShared is the kind of key that a shared one counts as, in the plan's words.
func kindOfShared(k SharedKey) string {
	if k.Use == UseMixedIn {
		return UseMixedIn
	}
	return plan.LoginSharedKey
}
