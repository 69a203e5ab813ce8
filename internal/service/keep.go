package service

import (
	"context"
	"sync"
	"time"
)

const (
	lookEvery = time.Second // whether something is due
	dueEvery  = 10 * time.Second
	tidyEvery = 24 * time.Hour // whether certificates end soon, and the journal is too long
)

// Keep does what is due now and then, until the context ends: the dialled name and certificates are kept up to date.
func (s *Service) Keep(ctx context.Context) {
	var sampling sync.WaitGroup
	sampling.Go(func() { s.keepSampling(ctx) }) // by itself: what else is due may wait for others
	defer sampling.Wait()
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	var tidied, tried time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			s.keepOutside(ctx, now)
			if now.Sub(tried) >= dueEvery {
				tried = now
				s.keepTrying(ctx, now)
			}
			if now.Sub(tidied) >= tidyEvery {
				tidied = now
				s.tidy(ctx, now)
			}
		}
	}
}

// keepSampling looks at sessions every two seconds.
func (s *Service) keepSampling(ctx context.Context) {
	t := time.NewTicker(sampleEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			s.live.sample(s.Runner.Sessions())
		}
	}
}

// tidy does what is due once a day.
func (s *Service) tidy(ctx context.Context, now time.Time) {
	if err := s.RenewCertificates(ctx, now); err != nil {
		s.Log.Error("certificates not renewed", "error", err)
	}
	if s.KeepJournal > 0 {
		gone, err := s.Store.ShortenJournal(ctx, now.Add(-s.KeepJournal))
		if err != nil {
			s.Log.Error("journal not shortened", "error", err)
		} else if gone > 0 {
			s.Log.Info("journal shortened", "lines", gone)
		}
		if err := s.Store.ShortenRounds(ctx, now.Add(-s.KeepJournal)); err != nil {
			s.Log.Error("rounds not shortened", "error", err)
		}
	}
}
