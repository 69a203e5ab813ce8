package computing_test

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
)

// gated are steps each of which waits for leave.
type gated struct {
	n     int
	leave chan struct{}
	begun chan int
	done  atomic.Int64
}

func newGated(n int) *gated {
	return &gated{n: n, leave: make(chan struct{}), begun: make(chan int, n)}
}

func (g *gated) Steps() int { return g.n }

func (g *gated) Do(i int) {
	select {
	case g.begun <- i:
	default: // nobody looks any more
	}
	<-g.leave
	g.done.Add(1)
}

// desk is a value that is worked out by gated steps, asked for by administrators.
type desk struct {
	t     *testing.T
	desk  computing.Desk
	value computing.Shared[int, string]
	steps *gated
	made  atomic.Int64
}

func (d *desk) how(ctx context.Context, r *computing.Run) (string, error) {
	d.made.Add(1)
	r.Tell("as large as a house")
	return "worked out", r.Do(ctx, "who reaches what", d.steps)
}

type answer struct {
	value string
	err   error
}

// ask asks in an administrator's name, and tells what they were answered.
func (d *desk) ask(ctx context.Context, who string, version int) <-chan answer {
	out := make(chan answer, 1)
	go func() {
		v, err := d.value.Get(actor.With(ctx, actor.Actor{Name: who}), &d.desk, "draft large", version, d.how)
		out <- answer{v, err}
	}()
	return out
}

// waiting waits until these wait for what is worked out, and gives it.
func (d *desk) waiting(who ...string) (task computing.Task) {
	require.Eventually(d.t, func() bool {
		tasks := d.desk.Tasks(actor.With(d.t.Context(), actor.Actor{Name: "rory"}))
		if len(tasks) == 1 {
			task = tasks[0]
		}
		return len(tasks) == 1 && len(task.Waiting) == len(who)
	}, 10*time.Second, time.Millisecond)
	require.Equal(d.t, who, task.Waiting)
	return task
}

func (d *desk) nothing() {
	require.Eventually(d.t, func() bool { return len(d.desk.Tasks(d.t.Context())) == 0 }, 10*time.Second, time.Millisecond)
}

// However many wait, it is worked out once; who leaves leaves it to the others; the last who leaves ends it before its next step; and who
// stops it is told to those who wait. Nothing of that is kept: who asks next has it worked out.
func TestOnceForAllWhoWait(t *testing.T) {
	d := &desk{t: t, steps: newGated(100)}
	leaving, leave := context.WithCancel(t.Context())
	first := d.ask(leaving, "vera", 1)
	d.waiting("vera")
	second := d.ask(t.Context(), "rory", 1)
	task := d.waiting("rory", "vera")
	require.True(t, task.Yours)
	require.Contains(t, task.Words, "who reaches what of draft large: 0 of 100")
	require.Contains(t, task.Words, "as large as a house")
	leave()
	require.ErrorIs(t, (<-first).err, context.Canceled)
	d.waiting("rory")
	close(d.steps.leave)
	require.Equal(t, answer{"worked out", nil}, <-second)
	require.EqualValues(t, 100, d.steps.done.Load())
	require.EqualValues(t, 1, d.made.Load())
	require.Equal(t, answer{"worked out", nil}, <-d.ask(t.Context(), "dora", 1), "it is there")
	require.EqualValues(t, 1, d.made.Load())

	d.steps = newGated(100)
	leaving, leave = context.WithCancel(t.Context())
	first = d.ask(leaving, "vera", 2) // another version
	d.waiting("vera")
	<-d.steps.begun
	leave()
	require.ErrorIs(t, (<-first).err, context.Canceled)
	close(d.steps.leave)
	d.nothing()
	require.Less(t, d.steps.done.Load(), int64(20), "it ended before the next step")

	d.steps = newGated(100)
	first = d.ask(t.Context(), "vera", 2)
	task = d.waiting("vera")
	require.False(t, task.Yours)
	require.NoError(t, d.desk.Stop(task.ID, "rory"))
	close(d.steps.leave)
	require.ErrorContains(t, (<-first).err, "rory stopped working this out")
	d.nothing()
	require.ErrorContains(t, d.desk.Stop(task.ID, "rory"), "nothing with number")
	require.Equal(t, answer{"worked out", nil}, <-d.ask(t.Context(), "dora", 2))
}

// alone does steps that nobody else asks for.
func alone(ctx context.Context, d *computing.Desk, s computing.Steps) error {
	var v computing.Shared[int, int]
	_, err := v.Get(ctx, d, "a plan", 1, func(ctx context.Context, r *computing.Run) (int, error) { return 1, r.Do(ctx, "findings", s) })
	return err
}

// A call that took as long as a call may is told to ask again, and what it waited for goes on until then.
func TestCallsAreBounded(t *testing.T) {
	d := &desk{t: t, steps: newGated(4)}
	bounded, stop := context.WithTimeoutCause(t.Context(), 10*time.Millisecond, computing.ErrCallTime)
	defer stop()
	var no *refusal.Error
	require.ErrorAs(t, (<-d.ask(bounded, "vera", 1)).err, &no)
	require.Equal(t, reason.ComputingGoesOn, no.Reason.Code)
	require.Equal(t, refusal.Away, no.Sort)
	require.Positive(t, no.Wait)
	d.waiting("vera")
	again := d.ask(t.Context(), "vera", 1)
	close(d.steps.leave)
	require.Equal(t, answer{"worked out", nil}, <-again)
	require.EqualValues(t, 1, d.made.Load(), "once")
}

// Who does not wait has it begun, and for a while it goes on. Who asks again right after somebody stopped it is told, and has it not begun
// anew.
func TestSoon(t *testing.T) {
	d := &desk{t: t, steps: newGated(4)}
	soon := func(patience time.Duration) (bool, error) {
		_, is, err := d.value.Soon(t.Context(), &d.desk, "draft large", 1, patience, d.how)
		return is, err
	}
	for range 2 {
		is, err := soon(time.Minute)
		require.NoError(t, err)
		require.False(t, is)
	}
	close(d.steps.leave)
	is, err := soon(time.Minute)
	require.NoError(t, err)
	require.True(t, is, "within a moment")
	require.EqualValues(t, 1, d.made.Load())

	d = &desk{t: t, steps: newGated(100)}
	_, err = soon(time.Millisecond)
	require.NoError(t, err)
	close(d.steps.leave) // longer ago than anybody has patience
	d.nothing()
	require.Less(t, d.steps.done.Load(), int64(20))

	d = &desk{t: t, steps: newGated(100)}
	_, err = soon(time.Minute)
	require.NoError(t, err)
	<-d.steps.begun
	require.NoError(t, d.desk.Stop(d.desk.Tasks(t.Context())[0].ID, "vera"))
	close(d.steps.leave)
	d.nothing()
	for range 2 {
		_, err = soon(time.Minute)
		require.ErrorContains(t, err, "vera stopped")
	}
	require.EqualValues(t, 1, d.made.Load())
}

// However many computations there are, as many steps as there are processors are done at once.
func TestTurns(t *testing.T) {
	var d computing.Desk
	var now, most atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			require.NoError(t, alone(t.Context(), &d, counted{&now, &most}))
		})
	}
	all.Wait()
	require.EqualValues(t, runtime.NumCPU(), most.Load())
}

type counted struct{ now, most *atomic.Int64 }

func (counted) Steps() int { return 40 }

func (c counted) Do(int) {
	n := c.now.Add(1)
	for was := c.most.Load(); n > was && !c.most.CompareAndSwap(was, n); was = c.most.Load() {
	}
	time.Sleep(time.Millisecond)
	c.now.Add(-1)
}

type broken struct{}

func (broken) Steps() int { return 50 }
func (broken) Do(i int) {
	if i == 7 {
		panic("a fault")
	}
}

// A fault in a computation is an error of that computation, and the end of nothing else.
func TestFaults(t *testing.T) {
	var d computing.Desk
	require.ErrorContains(t, alone(t.Context(), &d, broken{}),
		"findings could not be worked out: a fault in the service")
	var v computing.Shared[int, int]
	_, err := v.Get(t.Context(), &d, "a plan", 1, func(context.Context, *computing.Run) (int, error) { panic("another") })
	require.ErrorContains(t, err, "a fault in the service")
	n, err := v.Get(t.Context(), &d, "a plan", 1, func(context.Context, *computing.Run) (int, error) { return 3, nil })
	require.NoError(t, err)
	require.Equal(t, 3, n)

	until, leave := context.WithCancel(t.Context())
	leave()
	require.ErrorIs(t, alone(until, &d, broken{}), context.Canceled)
}
