package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// Kinds of shared secrets.
const (
	kindTSIG   = "tsig"       // RFC 8945: octets, written in base64
	kindShared = "shared-key" // text that both ends know
)

// SharedSecret is a key that both ends know. Its value is told once, when it is made here.
type SharedSecret struct {
	Name  string    `json:"name"`
	Kind  string    `json:"kind" enum:"tsig,shared-key"`
	Made  time.Time `json:"made"`
	Value string    `json:"value,omitempty" doc:"Only in the answer to making it, and only if it was generated here."`
}

func (s *Service) sharedRoutes() {
	register(s, "GET", "/secrets", "list-secrets", "All shared secrets, without their values", func(ctx context.Context, _ *struct{}) (*body[[]SharedSecret], error) {
		records, err := s.Store.AllShared(ctx)
		out := []SharedSecret{}
		for _, r := range records {
			out = append(out, SharedSecret{Name: r.Name, Kind: r.Kind, Made: r.At})
		}
		return answer(out), err
	})
	register(s, "POST", "/secrets/{name}", "make-secret", "Generate a shared secret and tell it once, or keep one that is given", s.makeShared)
	register(s, "DELETE", "/secrets/{name}", "remove-secret", "Forget a shared secret", func(ctx context.Context, in *removal) (*struct{}, error) {
		s.commits.Lock()
		defer s.commits.Unlock()
		if err := s.needed(ctx, in, "secret", gatewaysOf(in.Name)); err != nil {
			return nil, err
		}
		return nil, known(s.Store.RemoveShared(ctx, in.Name), "secret", in.Name)
	})
}

const (
	generated   = 32 // octets
	leastShared = 20 // characters
)

func (s *Service) makeShared(ctx context.Context, in *struct {
	Named
	Body struct {
		Kind  string `json:"kind" enum:"tsig,shared-key"`
		Value string `json:"value,omitempty" lines:"many" maxLength:"512" doc:"Not given: one is generated."`
	}
},
) (*body[SharedSecret], error) {
	value := strings.TrimSpace(in.Body.Value)
	out := SharedSecret{Name: in.Name, Kind: in.Body.Kind, Made: time.Now().UTC()}
	if value == "" {
		var random [generated]byte
		_, _ = rand.Read(random[:])
		value = base64.StdEncoding.EncodeToString(random[:])
		out.Value = value
	}
	if why := weakShared(in.Body.Kind, value); why != "" {
		return nil, huma.Error422UnprocessableEntity(why + "; leave it out to have one generated")
	}
	if err := s.Store.SaveShared(ctx, in.Name, in.Body.Kind, []byte(value)); err != nil {
		return nil, known(err, "secret", in.Name)
	}
	return answer(out), nil
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
	different := map[rune]bool{}
	for _, r := range value {
		different[r] = true
	}
	switch {
	case len([]rune(value)) < leastShared:
		return fmt.Sprintf("a shared key of %d characters can be guessed from one recorded login: use %d or more", len([]rune(value)),
			leastShared)
	case len(different) < 8:
		return "a shared key of so few different characters can be guessed"
	}
	return ""
}
