package compiled

import (
	"context"
	"fmt"
	"runtime"
	"time"

	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reach"
)

// patience is for how long a computation goes on that somebody asked for and did not wait for.
const patience = 5 * time.Second

// Known is the reach and proof of the people of the moment. What is known of the plan that was looked at last is taken over where it holds.
func (w *Whole) Known(ctx context.Context) (*reach.Known, error) {
	if _, err := w.Model(); err != nil {
		return nil, err
	}
	version := w.cache.store.PeopleVersion() // before they are read: whoever changes them meanwhile has it computed again
	return w.known.Get(ctx, &w.cache.Desk, w.Name(), version, w.compute(version))
}

// Soon is what is known if it is there; if not, it begins to be computed, and the work is told, of which each class can be asked for.
func (w *Whole) Soon(ctx context.Context) (*reach.Known, *reach.Work, error) {
	if _, err := w.Model(); err != nil {
		return nil, nil, err
	}
	version := w.cache.store.PeopleVersion()
	known, is, err := w.known.Soon(ctx, &w.cache.Desk, w.Name(), version, patience, w.compute(version))
	if is || err != nil {
		return known, nil, err
	}
	work, err := w.begin(ctx, version)
	return nil, work, err
}

func (w *Whole) compute(version uint64) func(context.Context, *computing.Run) (*reach.Known, error) {
	return func(ctx context.Context, r *computing.Run) (*reach.Known, error) {
		work, err := w.begin(ctx, version)
		if err != nil {
			return nil, err
		}
		done := false
		defer func() { // what was left is gone on with; what is done, or failed, is not
			if done || ctx.Err() == nil {
				w.drop(work)
			}
		}()
		size := w.measure(work)
		r.Tell(size.Words)
		if size.Room > 0 && size.Octets > max(size.Room/2, w.cache.Few) {
			return nil, refusal.Invalid("this is too large to be worked out here: " + size.Words + fmt.Sprintf(
				", where %d MB are free, of which half may be taken: put people who reach the same into one group, or give the service's machine more memory",
				size.Room>>20))
		}
		if err := r.Do(ctx, "who reaches what", work); err != nil {
			return nil, err
		}
		known := work.Known()
		w.cache.last.Store(known)
		done = true
		return known, nil
	}
}

// drop forgets a computation.
func (w *Whole) drop(work *reach.Work) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.work == work {
		w.work = nil
	}
}

// begin prepares the computation, or finds the one that was left.
func (w *Whole) begin(ctx context.Context, version uint64) (*reach.Work, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.work != nil && w.workOf == version {
		return w.work, nil
	}
	m, err := w.Model()
	if err != nil {
		return nil, err
	}
	persons, err := w.cache.people.Persons(ctx)
	if err != nil {
		return nil, err
	}
	w.work, w.workOf = w.cache.last.Load().Begin(m, persons), version
	return w.work, nil
}

// Size is how large a plan is for whoever works it out, and what that will take, by a few classes of people that were computed.
type Size struct {
	People       int     `json:"people"`
	Classes      int     `json:"classes" doc:"People in the same groups are one."`
	Destinations int     `json:"destinations" doc:"Columns of the reach board."`
	Rules        int     `json:"rules"`
	Expectations int     `json:"expectations"`
	Seconds      float64 `json:"seconds" doc:"About how long reach and proof take from nothing."`
	Octets       int64   `json:"octets" doc:"About how much memory they take."`
	Room         int64   `json:"room" doc:"How much memory is free here, of which half may be taken; 0: not known."`
	Words        string  `json:"words"`
}

// sampled is how many classes are computed to tell what all of them take.
const sampled = 16

// Size tells it before the whole is worked out.
func (w *Whole) Size(ctx context.Context) (Size, error) {
	if _, err := w.Model(); err != nil {
		return Size{}, err
	}
	work, err := w.begin(ctx, w.cache.store.PeopleVersion())
	if err != nil {
		return Size{}, err
	}
	return w.measure(work), nil
}

func (w *Whole) measure(work *reach.Work) Size {
	m := work.Model
	s := Size{
		People: work.People(), Classes: work.Steps(), Destinations: len(work.Columns().Destinations), Rules: len(m.Plan.Rules),
		Expectations: len(m.Plan.Expectations), Room: w.cache.Room(),
	}
	begun, n := time.Now(), min(sampled, s.Classes)
	for i := range n {
		at := i * s.Classes / n
		work.Do(at)
		s.Octets += work.Octets(at)
	}
	if n > 0 {
		s.Seconds = time.Since(begun).Seconds() * float64(s.Classes) / float64(n*runtime.NumCPU())
		s.Octets = s.Octets * int64(s.Classes) / int64(n)
	}
	s.Words = fmt.Sprintf("%d classes of people, %d destinations, %d rules, %d expectations: about %s and %d MB", s.Classes, s.Destinations,
		s.Rules, s.Expectations, computing.Duration(time.Duration(s.Seconds*float64(time.Second))), 1+s.Octets>>20)
	return s
}

// Surplus is what is reached beyond what is expected. It is shared: do not change it.
func (w *Whole) Surplus(ctx context.Context) ([]reach.Surplus, error) {
	known, err := w.Known(ctx)
	if err != nil {
		return nil, err
	}
	return w.surplus.Get(ctx, &w.cache.Desk, w.Name(), known, func(ctx context.Context, r *computing.Run) ([]reach.Surplus, error) {
		b, err := beyond(ctx, r, known)
		if err != nil {
			return nil, err
		}
		return b.Surplus(), nil
	})
}

func beyond(ctx context.Context, r *computing.Run, known *reach.Known) (*reach.Beyond, error) {
	b := known.Beyond()
	return b, r.Do(ctx, "surplus", b)
}

// Pinned is what could be expected of a surplus.
type Pinned struct {
	Surplus []reach.Surplus
	Pins    []reach.Pin
}

// Pinned is both. It is shared: do not change it.
func (w *Whole) Pinned(ctx context.Context) (Pinned, error) {
	known, err := w.Known(ctx)
	if err != nil {
		return Pinned{}, err
	}
	return w.pinned.Get(ctx, &w.cache.Desk, w.Name(), known, func(ctx context.Context, r *computing.Run) (Pinned, error) {
		b, err := beyond(ctx, r, known) // once more: what pinning looks at is as large as reach itself, and few ask for it
		if err != nil {
			return Pinned{}, err
		}
		p := b.Pinning()
		if err := r.Do(ctx, "what could be pinned", p); err != nil {
			return Pinned{}, err
		}
		return Pinned{b.Surplus(), p.Pins()}, nil
	})
}
