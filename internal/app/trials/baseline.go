package trials

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/probe"
)

// Baseline is the round that saw what was seen of the revision that runs, from the vantages that are asked for: by the newest round on
// it, or by one made now.
func (s *Service) Baseline(ctx context.Context, number int, in Request) (uint, error) {
	vantages, err := s.VantagesFor(ctx, in.Vantages)
	if err != nil {
		return 0, err
	}
	rounds, err := s.Store.Rounds(ctx, 50)
	if err != nil {
		return 0, err
	}
	for _, r := range rounds {
		seen, err := s.Seen(ctx, r.ID)
		if err != nil || slices.ContainsFunc(seen, func(p probe.Report) bool { return !p.Judged() }) {
			continue
		}
		from := strings.Fields(r.Vantages)
		if r.Revision == number && r.State == RoundDone &&
			!slices.ContainsFunc(vantages, func(v Vantage) bool { return !slices.Contains(from, v.Name) }) {
			return r.ID, nil
		}
	}
	r, done, err := s.start(ctx, actor.Name(ctx), in)
	if err != nil {
		return 0, err
	}
	select {
	case <-done:
		if ended, err := s.Store.Round(ctx, r.ID); err != nil || ended.State != RoundDone {
			return 0, errors.Join(err, refusal.Conflict("the round that was to see how it is now did not end: try again"))
		}
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	return r.ID, nil
}

// Broken says which expectations fail now and held before, for whom, from where. What held and is not judged now is among them.
func Broken(before, after []probe.Report) (out []string) {
	held, any := map[string]bool{}, map[string]bool{}
	for _, p := range before {
		for name, ok := range heldIn(p) {
			held[KeyOf(p)+"\x00"+name] = ok
			any[KeyOf(p)] = any[KeyOf(p)] || ok
		}
	}
	for _, p := range after {
		if p.NotTried {
			if any[KeyOf(p)] {
				out = append(out, fmt.Sprintf("nothing is known of %s from %s (%s)", p.Class, p.Vantage, p.Login))
			}
			continue
		}
		ok := heldIn(p)
		for _, x := range p.Results {
			if name := x.Expectation; !ok[name] && held[KeyOf(p)+"\x00"+name] && !(x.OK && p.Connected) {
				ok[name] = true // told once
				why := cmp.Or(x.Likely, x.Seen.Words)
				if !p.Connected {
					why = p.Login
				}
				out = append(out, fmt.Sprintf("%s for %s from %s (%s by %s: %s)", name, p.Class, p.Vantage, x.Place, x.Service, why))
			}
		}
	}
	return out
}

// heldIn tells of each expectation that a report is about whether everything tried of it was as expected.
func heldIn(p probe.Report) map[string]bool {
	out := map[string]bool{}
	for _, x := range p.Results {
		if x.Edge {
			continue
		}
		if was, seen := out[x.Expectation]; !seen || was {
			out[x.Expectation] = x.OK
		}
	}
	return out
}
