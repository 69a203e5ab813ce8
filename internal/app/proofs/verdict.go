package proofs

import (
	"context"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/probe"
)

// verdicts keeps the last verdict: the board is looked at by many, and again and again.
type verdicts struct {
	mu   sync.Mutex
	of   judged
	last Verdict
}

// judged is what a verdict depends on.
type judged struct {
	revision int
	people   uint64
	trust    uint64
	newest   time.Time // report
	reports  int
	troubles string
	minute   int64 // certificates run out, hours begin
}

// verdict is what is known of a revision: findings, proof and trials, as the report has it.
func (s *Service) verdict(ctx context.Context, number int, reports []probe.Report) (Verdict, error) {
	of := judged{
		revision: number, people: s.Store.PeopleVersion(), trust: s.Store.TrustVersion(), reports: len(reports),
		minute: time.Now().Unix() / 60,
	}
	for _, r := range reports {
		if r.At.After(of.newest) {
			of.newest = r.At
		}
	}
	for _, t := range s.Running.Troubles() {
		of.troubles += t + "\n"
	}
	s.verdicts.mu.Lock()
	defer s.verdicts.mu.Unlock()
	if s.verdicts.of == of {
		return s.verdicts.last, nil
	}
	r, err := s.Report(ctx)
	if err != nil {
		return Verdict{}, err
	}
	s.verdicts.of = of
	s.verdicts.last = Verdict{r.OK, r.Headline, r.Verdict, slices.Clone(r.Troubles), slices.Clone(r.Untried)}
	return s.verdicts.last, nil
}
