package computing

import (
	"context"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
)

// Shared is a value that is worked out once for everybody who wants it. It is of a version: another version is worked out anew. The zero
// value has none.
type Shared[V comparable, T any] struct {
	mu      sync.Mutex
	has     bool
	version V
	value   T
	now     *under[T]
	of      V // that is under way
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
func (s *Shared[V, T]) Get(ctx context.Context, d *Desk, what string, version V, how func(context.Context, *Run) (T, error)) (T, error) {
	me := &waiter{actor.Name(ctx)}
	u, value, has := s.join(ctx, d, what, version, me, how)
	if has {
		return value, nil
	}
	defer u.run.leave(me)
	select {
	case <-u.done:
		return u.value, u.err
	case <-ctx.Done():
		var none T
		return none, context.Cause(ctx)
	}
}

// Soon is the value if it is there; if not, it begins to be worked out, and goes on for a while in case somebody asks again.
func (s *Shared[V, T]) Soon(ctx context.Context, d *Desk, what string, version V, patience time.Duration, how func(context.Context, *Run) (T, error)) (T, bool) {
	me := &waiter{actor.Name(ctx)}
	u, value, has := s.join(ctx, d, what, version, me, how)
	if !has {
		time.AfterFunc(patience, func() { u.run.leave(me) })
	}
	return value, has
}

func (s *Shared[V, T]) join(ctx context.Context, d *Desk, what string, version V, me *waiter, how func(context.Context, *Run) (T, error)) (u *under[T], value T, has bool) {
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
	go s.work(ctx, d, u, version, how)
	return u, value, false
}

func (s *Shared[V, T]) work(ctx context.Context, d *Desk, u *under[T], version V, how func(context.Context, *Run) (T, error)) {
	defer close(u.done)
	defer d.over(u.run)
	defer func() {
		if p := recover(); p != nil {
			u.err = d.fault(u.run.what, p)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.now == u {
			if s.now = nil; u.err == nil {
				s.has, s.version, s.value = true, version, u.value
			}
		}
	}()
	u.value, u.err = how(ctx, u.run)
}
