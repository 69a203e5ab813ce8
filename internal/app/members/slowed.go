package members

import (
	"context"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/reason"
)

// Slowed is somebody who has to wait, and for what.
type Slowed struct {
	For string `json:"for" enum:"tunnel,code,console" doc:"What the passwords were for; code: codes of a second factor, from everywhere."`
	crowd.Slowed
}

// Slowed lists who had wrong passwords in the last hour, and until when no other is looked at.
func (s *Service) Slowed() []Slowed {
	out := []Slowed{}
	for _, x := range s.People.Guesses.Slowed() {
		out = append(out, Slowed{"tunnel", x})
	}
	for _, x := range s.People.Codes.Slowed() {
		x.Source = netip.Prefix{} // from everywhere
		out = append(out, Slowed{"code", x})
	}
	for _, x := range s.Console.Slowed() {
		out = append(out, Slowed{"console", x})
	}
	return out
}

// Lift lets the next password be looked at at once, of a name and from an address, or the /64 of an IPv6 address; both may be empty. It
// gives how many need not wait any more.
func (s *Service) Lift(ctx context.Context, name, source string) (int, error) {
	var from netip.Addr
	if source != "" {
		text, _, _ := strings.Cut(source, "/")
		var err error
		if from, err = netip.ParseAddr(text); err != nil {
			return 0, refusal.Invalid(fmt.Sprintf("%q is no address: write one such as 203.0.113.45", source))
		}
	}
	n := s.People.Guesses.Lift(name, from) + s.People.Codes.Lift(name, from) + s.Console.Lift(name, from)
	if n > 0 {
		s.Journal.Tell(reason.Of(reason.GuessesLifted, reason.With{reason.Administrator: actor.Name(ctx), reason.Count: strconv.Itoa(n)}),
			name)
	}
	return n, nil
}
