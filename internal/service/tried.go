package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// baseline is what was seen of the revision that runs, from the vantages that are asked for: by the newest round on it, or by one made now.
func (s *Service) baseline(ctx context.Context, number int, in roundRequest) ([]probe.Report, error) {
	vantages, err := s.vantagesFor(in.Vantages)
	if err != nil {
		return nil, err
	}
	rounds, err := s.Store.Rounds(ctx, 50)
	if err != nil {
		return nil, err
	}
	for _, r := range rounds {
		from := strings.Fields(r.Vantages)
		if r.Revision == number && r.State == RoundDone &&
			!slices.ContainsFunc(vantages, func(v Vantage) bool { return !slices.Contains(from, v.Name) }) {
			return s.roundReports(ctx, r.ID)
		}
	}
	r, done, err := s.startRound(ctx, administrator(ctx), in)
	if err != nil {
		return nil, err
	}
	select {
	case <-done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return s.roundReports(ctx, r.ID)
}

// tryCommitted tries a revision that was just committed, and keeps it or goes back. s.commits is held; the rest happens by itself.
func (s *Service) tryCommitted(ctx context.Context, t store.OnTrial, in roundRequest, before []probe.Report) (uint, error) {
	r, done, err := s.startRound(ctx, administrator(ctx), in)
	if err != nil {
		s.undo(context.WithoutCancel(ctx), t, "it could not be tried: "+err.Error())
		return 0, huma.Error422UnprocessableEntity("it was taken back, for it could not be tried: " + err.Error())
	}
	s.background.Go(func() {
		<-done
		s.commits.Lock()
		defer s.commits.Unlock()
		if err := s.concludeTrial(context.Background(), t, r.ID, before); err != nil {
			s.Log.Error("a revision on trial was neither kept nor taken back yet", "revision", t.Revision, "error", err)
		}
	})
	return r.ID, nil
}

// concludeTrial keeps a revision whose round saw every expectation hold that held before, and goes back from any other.
func (s *Service) concludeTrial(ctx context.Context, t store.OnTrial, id uint, before []probe.Report) error {
	r, err := s.Store.Round(ctx, id)
	if err != nil {
		return err
	}
	if r.State != RoundDone { // the service ends: at the next start it goes back when its time has come
		return nil
	}
	after, err := s.roundReports(ctx, id)
	if err != nil {
		return err
	}
	if broken := brokenBy(before, after); len(broken) > 0 {
		s.undo(ctx, t, fmt.Sprintf("round %d saw fail what held before: %s", id, strings.Join(broken[:min(len(broken), 3)], "; ")))
		return nil
	}
	if err := s.Store.Keep(ctx, t.Revision); err != nil { // the timer still runs: it goes back when its time has come
		return err
	}
	s.watchTrial(nil)
	s.tell(reason.Of(reason.KeptByRound, reason.With{
		reason.Revision: strconv.Itoa(t.Revision), reason.Round: fmt.Sprint(id),
	}), r.By)
	return nil
}

// brokenBy says which expectations fail now and held before, for whom, from where.
func brokenBy(before, after []probe.Report) (out []string) {
	held := map[string]bool{}
	for _, p := range before {
		for name, ok := range heldIn(p) {
			held[keyOfReport(p)+"\x00"+name] = ok
		}
	}
	for _, p := range after {
		ok := heldIn(p)
		for _, x := range p.Results {
			if name := x.Expectation; !ok[name] && held[keyOfReport(p)+"\x00"+name] && !(x.OK && p.Connected) {
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
