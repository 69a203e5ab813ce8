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
	"yellowlantern/internal/people"
)

// Slowed is somebody who has to wait, and for what.
type Slowed struct {
	For string `json:"for" enum:"tunnel,code,console,source" doc:"What the passwords were for; code: codes of a second factor, from everywhere; source: trials of a source of people, from everywhere."`
	crowd.Slowed
}

// mostKeptAtOnce is how much of what changed is written at once.
const mostKeptAtOnce = 500

// guards are who slows down guesses, by what they are kept under; whose tells whether a name is somebody's: what strangers call themselves
// is not kept.
func (s *Service) guards() map[string]*people.Guesses {
	return map[string]*people.Guesses{"tunnel": &s.People.Guesses, "code": &s.People.Codes, "console": s.Console, "source": s.Trials}
}

// KeepSlowed writes down who has to wait, so that a restart lets nobody guess on at once.
func (s *Service) KeepSlowed(ctx context.Context) error {
	for of, g := range s.guards() {
		all := g.Changed(mostKeptAtOnce)
		var known []crowd.Kept
		for _, k := range all {
			if s.whose(ctx, of, k.Name) {
				known = append(known, k)
			}
		}
		if err := s.Store.KeepGuesses(ctx, of, known); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) whose(ctx context.Context, of, name string) bool {
	if of == "console" {
		_, err := s.Store.Administrator(ctx, name)
		return err == nil
	}
	own, elsewhere, err := s.Store.Spelled(ctx, name)
	return err == nil && (own != "" || elsewhere != "") || of == "code" && !people.IsPerson(name) || of == "source" // an administrator's
}

// RestoreSlowed takes up what was written down.
func (s *Service) RestoreSlowed(ctx context.Context) error {
	for of, g := range s.guards() {
		all, err := s.Store.KeptGuesses(ctx, of)
		if err != nil {
			return err
		}
		g.Restore(all)
	}
	return nil
}

// Slowed lists who had wrong passwords in the last hour, and until when no other is looked at; of administrators where asked for.
func (s *Service) Slowed(administrators bool) []Slowed {
	out := []Slowed{}
	for _, x := range s.People.Guesses.Slowed() {
		out = append(out, Slowed{"tunnel", x})
	}
	for _, x := range s.People.Codes.Slowed() {
		if !administrators && !people.IsPerson(x.Name) {
			continue
		}
		x.Source = netip.Prefix{} // from everywhere
		out = append(out, Slowed{"code", x})
	}
	if !administrators {
		return out
	}
	for _, x := range s.Console.Slowed() {
		out = append(out, Slowed{"console", x})
	}
	for _, x := range s.Trials.Slowed() {
		x.Source = netip.Prefix{}
		out = append(out, Slowed{"source", x})
	}
	return out
}

// Lift lets the next password be looked at at once, of a name and from an address, or the /64 of an IPv6 address; both may be empty. It
// gives how many need not wait any more. What administrators wait for, at the console and with codes, is lifted where asked for.
func (s *Service) Lift(ctx context.Context, name, source string, administrators bool) (int, error) {
	var from netip.Addr
	if source != "" {
		text, _, _ := strings.Cut(source, "/")
		var err error
		if from, err = netip.ParseAddr(text); err != nil {
			return 0, refusal.Invalid(fmt.Sprintf("%q is no address: write one such as 203.0.113.45", source))
		}
	}
	n := s.People.Guesses.Lift(name, from, people.IsPerson) + s.People.Codes.Lift(name, from, people.IsPerson)
	if administrators {
		n += s.People.Guesses.Lift(name, from, nil) + s.People.Codes.Lift(name, from, nil) + s.Console.Lift(name, from, nil) +
			s.Trials.Lift(name, from, nil)
	}
	if n > 0 {
		s.Journal.Tell(reason.Of(reason.GuessesLifted, reason.With{reason.Administrator: actor.Name(ctx), reason.Count: strconv.Itoa(n)}),
			name)
	}
	return n, nil
}
