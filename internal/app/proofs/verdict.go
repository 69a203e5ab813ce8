package proofs

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/probe"
)

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

// patience is for how long a verdict goes on being made that somebody asked for and did not wait for.
const patience = 5 * time.Second

// verdict is what is known of a revision: findings, proof and trials, as the report has it. Where it is wanted soon, it may be unfinished.
func (s *Service) verdict(ctx context.Context, number int, reports []probe.Report, soon bool) (v Verdict, unfinished bool, err error) {
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
	how := func(ctx context.Context, _ *computing.Run) (Verdict, error) {
		r, err := s.Report(ctx)
		if err != nil {
			return Verdict{}, err
		}
		return Verdict{r.OK, r.Headline, r.Verdict, slices.Clone(r.Troubles), slices.Clone(r.Untried)}, nil
	}
	what := fmt.Sprintf("the verdict on revision %d", number)
	if soon {
		v, is, err := s.verdicts.Soon(ctx, s.Plans.Desk(), what, of, patience, how)
		if !is {
			v = Verdict{Troubles: []string{}, Untried: []string{}}
		}
		return v, !is, err
	}
	v, err = s.verdicts.Get(ctx, s.Plans.Desk(), what, of, how)
	return v, false, err
}
