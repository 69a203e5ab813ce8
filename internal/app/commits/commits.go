// Package commits makes drafts what runs. A commit is a sequence of steps, each recorded before the next: what is asked for, how things
// are before it, the revision that runs, its trial, and whether it stays. No lock is held while a trial is waited for, and a service that
// ends at any step goes on, or goes back, at its next start.
package commits

import (
	"context"
	"log/slog"
	"time"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Trier tries what runs.
type Trier interface {
	// VantagesFor finds vantages by name.
	VantagesFor(ctx context.Context, names []string) ([]trials.Vantage, error)
	// Baseline gives a round that saw a revision, or makes one now and waits for it.
	Baseline(ctx context.Context, revision int, in trials.Request) (uint, error)
	// Start begins a round on the newest revision; the channel is closed when it is over.
	Start(ctx context.Context, by string, in trials.Request) (trials.Round, <-chan struct{}, error)
	// Seen gives what a round saw.
	Seen(ctx context.Context, id uint) ([]probe.Report, error)
}

// Service makes commits.
type Service struct {
	Store   *store.Store
	Journal *journal.Service
	Plans   *plans.Service
	Running *running.Service
	Trials  Trier
	Log     *slog.Logger
	// Until ends when the service does, and Background holds what it waits for then.
	Until      context.Context
	Background *guard.Group

	goesBack *time.Timer // of the revision on trial; guarded by Running.Alone
}
