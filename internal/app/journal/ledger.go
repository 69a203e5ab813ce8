package journal

import (
	"context"
	"time"

	"yellowlantern/internal/core/ledger"
)

// Chained is a stretch of the journal as it is chained.
type Chained struct {
	Start ledger.Start  `json:"start" doc:"Where the chain begins now: after the last line that was let go."`
	Lines []ledger.Line `json:"lines" nullable:"false" doc:"In order."`
}

const mostLines = 5000 // of one stretch

// Chained gives lines after one, in order.
func (s *Service) Chained(ctx context.Context, after uint64, most int) (Chained, error) {
	start, err := s.store.LedgerStart(ctx)
	if err != nil {
		return Chained{}, err
	}
	lines, err := s.store.LedgerLines(ctx, after, min(max(most, 1), mostLines))
	return Chained{start, lines}, err
}

// Head signs the newest line. Whoever keeps heads elsewhere notices a journal that was rewritten whole.
func (s *Service) Head(ctx context.Context) (ledger.Head, error) {
	return s.store.LedgerHead(ctx, time.Now())
}
