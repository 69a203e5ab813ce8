package computing

import (
	"context"
	"errors"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/guard"
)

// How is how a value is worked out; its context ends when nobody waits any more, or somebody stops it.
type How[T any] func(context.Context, *Run) (T, error)

// Shared is a value that is worked out once for everybody who wants it. It is of a version: another version is worked out anew. The zero
// value has none.
type Shared[V comparable, T any] struct {
	mu      sync.Mutex
	has     bool
	version V
	value   T
	now     *under[T]
	of      V // that is under way

	failed   error // of what was worked out last
	failedOf V
	failedAt time.Time
}

// under is a value being worked out.
type under[T any] struct {
	run   *Run
	done  chan struct{}
	value T
	err   error
}

// Get is the value. Whoever comes while it is worked out waits for the same; who leaves, by the end of ctx, leaves it to those who still
// wait, and with the last of them it ends. how gets the context of all of them.
func (s *Shared[V, T]) Get(ctx context.Context, d *Desk, what string, version V, how How[T]) (T, error) {
	me := &waiter{actor.Name(ctx)}
	u, value, has := s.join(ctx, d, what, version, me, how)
	if has {
		return value, nil
	}
	select {
	case <-u.done:
		u.run.leave(me)
		return u.value, u.err
	case <-ctx.Done():
		var none T
		why := context.Cause(ctx)
		if !errors.Is(why, ErrCallTime) {
			u.run.leave(me)
			return none, why
		}
		guard.After(linger, "computing.Get", func() { u.run.leave(me) })
		goesOn := reason.Of(reason.ComputingGoesOn, nil)
		return none, &refusal.Error{Sort: refusal.Away, Wait: time.Second, Words: goesOn.Words(), Reason: goesOn}
	}
}

// ErrCallTime is the cause of the end of a context that bounds one call. What the call waited for goes on as long as linger, so that
// whoever asks again finds it further, or done.
var ErrCallTime = errors.New("the call took as long as a call may")

const linger = 30 * time.Second

// moment is how long anybody waits who does not want to wait.
const moment = 250 * time.Millisecond

// Soon is the value if it is there within a moment; if not, it goes on being worked out for a while, in case somebody asks again. Why it
// could not be worked out just now is the error: it is not begun again at once.
func (s *Shared[V, T]) Soon(ctx context.Context, d *Desk, what string, version V, patience time.Duration, how How[T]) (value T, is bool,
	err error,
) {
	if err := s.justFailed(version, patience); err != nil {
		return value, false, err
	}
	me := &waiter{actor.Name(ctx)}
	u, value, is := s.join(ctx, d, what, version, me, how)
	if is {
		return value, true, nil
	}
	guard.After(patience, "computing.Soon", func() { u.run.leave(me) })
	ctx, stop := context.WithTimeout(ctx, moment)
	defer stop()
	select {
	case <-u.done:
		return u.value, u.err == nil, u.err
	case <-ctx.Done():
		return value, false, nil
	}
}

// justFailed is why a version could not be worked out, if that is no longer ago than somebody has patience.
func (s *Shared[V, T]) justFailed(version V, patience time.Duration) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failed == nil || s.failedOf != version || time.Since(s.failedAt) > patience || errors.Is(s.failed, errNobody) {
		return nil
	}
	return s.failed
}

func (s *Shared[V, T]) join(ctx context.Context, d *Desk, what string, version V, me *waiter, how How[T]) (u *under[T], value T, has bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has && s.version == version {
		return nil, s.value, true
	}
	if s.now != nil && s.of == version && s.now.run.join(me) {
		return s.now, value, false
	}
	u = &under[T]{done: make(chan struct{})}
	ctx, u.run = d.begin(context.WithoutCancel(ctx), what) // it is not only theirs who began it
	u.run.join(me)
	s.now, s.of = u, version
	guard.Go("computing.join", func() { s.work(ctx, d, u, version, how) })
	return u, value, false
}

func (s *Shared[V, T]) work(ctx context.Context, d *Desk, u *under[T], version V, how How[T]) {
	defer close(u.done)
	defer d.over(u.run)
	defer func() {
		if p := recover(); p != nil {
			u.err = d.fault(u.run.what, p)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.now != u { // another version is wanted meanwhile
			return
		}
		s.now = nil
		if s.failed, s.failedOf, s.failedAt = u.err, version, time.Now(); u.err == nil {
			s.has, s.version, s.value = true, version, u.value
		}
	}()
	u.value, u.err = how(ctx, u.run)
}
