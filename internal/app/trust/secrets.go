package trust

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// Kinds of shared secrets.
const (
	kindPassword = "password"   // another service's
	kindTSIG     = "tsig"       // RFC 8945: octets, written in base64
	kindShared   = "shared-key" // text that both ends know
)

// SharedSecret is a key that both ends know. Its value is told once, when it is made here.
type SharedSecret struct {
	Name  string    `json:"name"`
	Kind  string    `json:"kind" enum:"tsig,shared-key"`
	Made  time.Time `json:"made"`
	By    string    `json:"by,omitempty" doc:"The administrator who gave it."`
	Sent  bool      `json:"sent" doc:"The plan that runs sends it somewhere; it may be sent nowhere else without being given again."`
	Value string    `json:"value,omitempty" doc:"Only in the answer to making it, and only if it was generated here."`
}

// Secrets lists all shared secrets, without their values.
func (s *Service) Secrets(ctx context.Context) ([]SharedSecret, error) {
	records, err := s.Store.AllShared(ctx)
	out := []SharedSecret{}
	for _, r := range records {
		out = append(out, SharedSecret{Name: r.Name, Kind: r.Kind, Made: r.At, By: r.By, Sent: r.For != ""})
	}
	return out, err
}

// RemoveSecret forgets one; evenSo: also where earlier revisions need it.
func (s *Service) RemoveSecret(ctx context.Context, name string, evenSo bool) error {
	return s.Running.Release(ctx, plan.KeptSecret, name, evenSo, func() error { return s.Store.RemoveShared(ctx, name) })
}

const generated = 32 // octets

// MakeSecret keeps a secret of a kind (tsig, shared-key, password); without a value one is generated, and told in the answer alone. again
// puts it in the place of one that is kept: it is given again, and may be sent where the plan that runs says, or the next one of whoever
// gave it.
func (s *Service) MakeSecret(ctx context.Context, name, kind, value string, again bool) (SharedSecret, error) {
	value = strings.TrimSpace(value)
	out := SharedSecret{Name: name, Kind: kind, Made: time.Now().UTC(), By: actor.Name(ctx)}
	if value == "" {
		var random [generated]byte
		_, _ = rand.Read(random[:])
		value = base64.StdEncoding.EncodeToString(random[:])
		out.Value = value
	}
	if why := weakShared(kind, value); why != "" {
		return out, refusal.Invalid(why + "; leave it out to have one generated")
	}
	if err := s.Store.SaveShared(ctx, store.SharedSecret{Name: name, Kind: kind, By: out.By}, []byte(value), again); err != nil {
		return out, refusal.Known(err, "secret", name)
	}
	return out, nil
}

// weakShared says why a secret will not do.
func weakShared(kind, value string) string {
	if kind == kindTSIG {
		octets, err := base64.StdEncoding.DecodeString(value)
		switch {
		case err != nil:
			return "a TSIG secret is written in base64"
		case len(octets) < 16:
			return fmt.Sprintf("a TSIG secret of %d octets can be guessed: use 16 or more", len(octets))
		}
		return ""
	}
	if kind == kindPassword { // another service made it, and judged it
		return ""
	}
	if err := cert.GoodShared(value); err != nil {
		return err.Error()
	}
	return ""
}
