package app

import (
	"context"
	"time"

	"yellowlantern/internal/guard"
)

const (
	lookEvery = time.Second // whether something is due
	dueEvery  = 10 * time.Second
	// accountEvery is how often it is looked what servers are to be told of sessions, and where they may ask for changes.
	accountEvery = 2 * time.Second
	tidyEvery    = 24 * time.Hour // whether certificates end soon, and the journal is too long
)

// Keep does what is due now and then, until the context ends: the dialled name and certificates are kept up to date.
func (a *App) Keep(ctx context.Context) {
	var sampling guard.Group
	sampling.Keep("watching.sample", func() { a.Watching.Sample(ctx) }) // by itself: what else is due may wait for others
	sampling.Keep("watching.keep", func() { every(ctx, lookEvery, func(now time.Time) { a.Watching.KeepOutside(ctx, now) }) })
	sampling.Keep("authorities.keep", func() { every(ctx, dueEvery, func(time.Time) { a.Authorities.Keep(ctx) }) })
	sampling.Keep("members.keep", func() { every(ctx, dueEvery, func(time.Time) { a.Members.Keep(ctx) }) })
	sampling.Keep("sources.keep", func() { every(ctx, dueEvery, func(time.Time) { a.Sources.Keep(ctx) }) })
	sampling.Keep("throttle.keep", func() { every(ctx, lookEvery, func(time.Time) { a.keepSlowed(ctx) }) })
	sampling.Keep("access.rights", func() { every(ctx, lookEvery, func(time.Time) { a.Access.EndChanged(ctx) }) })
	sampling.Keep("access.keep", func() { every(ctx, dueEvery, func(time.Time) { a.Access.Keep(ctx) }) })
	sampling.Go("equipment.keep", func() {
		defer a.Equipment.Close()
		guard.Keep("equipment.keep", func() { every(ctx, lookEvery, a.Equipment.Keep) })
	})
	sampling.Go("changes.keep", func() {
		defer a.Changes.Close()
		guard.Keep("changes.keep", func() { every(ctx, accountEvery, func(time.Time) { a.Changes.Keep(ctx) }) })
	})
	sampling.Keep("accounting.keep", func() { every(ctx, accountEvery, func(now time.Time) { a.Accounting.Keep(ctx, now) }) })
	defer sampling.Wait()
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	var tidied, tried time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			if now.Sub(tried) >= dueEvery {
				tried = now
				a.Trials.WhenDue(ctx, now)
			}
			if now.Sub(tidied) >= tidyEvery {
				tidied = now
				a.tidy(ctx, now)
			}
		}
	}
}

// every does something again and again, until the context ends.
func every(ctx context.Context, pause time.Duration, do func(now time.Time)) {
	t := time.NewTicker(pause)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			do(now)
		}
	}
}

// tidy does what is due once a day.
func (a *App) tidy(ctx context.Context, now time.Time) {
	if err := a.Trust.Renew(ctx, now); err != nil {
		a.Log.Error("certificates not renewed", "error", err)
	}
	a.forgetNTHashes(ctx, now)
	if a.keepJournal > 0 {
		gone, err := a.store.ShortenJournal(ctx, now.Add(-a.keepJournal))
		if err != nil {
			a.Log.Error("journal not shortened", "error", err)
		} else if gone > 0 {
			a.Log.Info("journal shortened", "lines", gone)
		}
		if err := a.store.ShortenRounds(ctx, now.Add(-a.keepJournal)); err != nil {
			a.Log.Error("rounds not shortened", "error", err)
		}
	}
}

// keepSlowed writes down who has to wait. Where it cannot, they wait all the same, until the service is started again.
func (a *App) keepSlowed(ctx context.Context) {
	if err := a.Members.KeepSlowed(ctx); err != nil && ctx.Err() == nil {
		a.Log.Warn("who has to wait is not written down", "error", err)
	}
}

// forgetNTHashes has passwords of people kept in the way that is slow to guess by, once the plan that needs no more of them has run for a
// day: until then somebody may go back to the one before.
func (a *App) forgetNTHashes(ctx context.Context, now time.Time) {
	if r, err := a.store.Newest(ctx); err != nil || now.Sub(r.At) < tidyEvery {
		return
	}
	names, err := a.Members.People.ForgetNTHashes(ctx)
	if err != nil && ctx.Err() == nil {
		a.Log.Error("not every NT hash that nobody needs is forgotten", "error", err)
	}
	if len(names) > 0 {
		a.Log.Info("NT hashes are forgotten that no way of logging in needs", "people", len(names))
	}
}
