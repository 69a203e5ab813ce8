// Package computing runs what takes long on a large plan: on every core, once for everybody who waits for it, told how far it is, and left
// when nobody waits any more or somebody says so. What is computed is the business of others.
package computing

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/guard"
)

// Steps is a computation in steps that may be done several at once, each once.
type Steps interface {
	Steps() int
	Do(i int)
}

// Task is one thing that is being worked out.
type Task struct {
	ID      int       `json:"id"`
	What    string    `json:"what" doc:"Of which plan."`
	Stage   string    `json:"stage" doc:"What is worked out of it just now."`
	Size    string    `json:"size" doc:"How large it is, in words; empty: it is not told."`
	Done    int       `json:"done" doc:"Steps that are done."`
	Of      int       `json:"of" doc:"Steps in all."`
	Since   time.Time `json:"since"`
	Left    float64   `json:"left" doc:"How long this stage will take yet, in seconds, as its steps went until now."`
	Waiting []string  `json:"waiting" nullable:"false" doc:"The administrators who wait for it."`
	Yours   bool      `json:"yours" doc:"Whoever asks waits for it."`
	Words   string    `json:"words" doc:"How far it is, in words."`
}

func (t Task) words() string {
	out := fmt.Sprintf("%s of %s: %d of %d", t.Stage, t.What, t.Done, t.Of)
	if t.Done > 0 {
		out += ", about " + Duration(time.Duration(t.Left*float64(time.Second))) + " left"
	}
	if t.Size != "" {
		out += " (" + t.Size + ")"
	}
	return out
}

// Duration is a time as people say it of something that is estimated.
func Duration(d time.Duration) string {
	switch {
	case d < 2*time.Second:
		return fmt.Sprintf("%.1f s", max(d.Seconds(), 0.1))
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}

// Desk knows what is being worked out just now. The zero value is none.
type Desk struct {
	Log *slog.Logger

	mu    sync.Mutex
	last  int
	runs  map[int]*Run
	once  sync.Once
	turns chan struct{} // as many as there are processors
}

// turn does one step, once fewer than there are processors are under way: however many computations there are, whoever carries packets
// finds a processor, and not a queue of those who compute.
func (d *Desk) turn(ctx context.Context, do func()) {
	d.once.Do(func() { d.turns = make(chan struct{}, runtime.NumCPU()) })
	select {
	case d.turns <- struct{}{}:
		defer func() { <-d.turns }()
		do()
	case <-ctx.Done():
	}
}

// Run is one computation under way.
type Run struct {
	id    int
	desk  *Desk
	end   context.CancelCauseFunc
	since time.Time

	mu      sync.Mutex
	what    string
	stage   string
	size    string
	begun   time.Time // of the stage
	of      int
	done    atomic.Int64
	waiting map[*waiter]bool
	left    bool
}

// waiter is somebody who waits for it.
type waiter struct{ name string }

// Tasks are what is being worked out, the one that was begun first before the others, as somebody is told of it.
func (d *Desk) Tasks(ctx context.Context) []Task {
	me := actor.Name(ctx)
	d.mu.Lock()
	runs := make([]*Run, 0, len(d.runs))
	for _, r := range d.runs {
		runs = append(runs, r)
	}
	d.mu.Unlock()
	out := []Task{}
	for _, r := range runs {
		if t := r.task(); t.Of > 0 {
			t.Yours = me != "" && slices.Contains(t.Waiting, me)
			t.Words = t.words()
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b Task) int { return cmp.Compare(a.ID, b.ID) })
	return out
}

func (r *Run) task() Task {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := Task{ID: r.id, What: r.what, Stage: r.stage, Size: r.size, Done: int(r.done.Load()), Of: r.of, Since: r.since, Waiting: []string{}}
	if t.Done > 0 {
		t.Left = time.Since(r.begun).Seconds() / float64(t.Done) * float64(t.Of-t.Done)
	}
	for w := range r.waiting {
		if w.name != "" && !slices.Contains(t.Waiting, w.name) {
			t.Waiting = append(t.Waiting, w.name)
		}
	}
	slices.Sort(t.Waiting)
	return t
}

// Stop ends a computation in somebody's name. Who waits for it is told, and asks again if they still want it.
func (d *Desk) Stop(id int, by string) error {
	d.mu.Lock()
	r := d.runs[id]
	d.mu.Unlock()
	if r == nil {
		return refusal.Missing(fmt.Sprintf("nothing with number %d is being worked out: it is done, or was ended already", id))
	}
	r.end(refusal.Conflict(fmt.Sprintf("%s stopped working this out: whoever still wants it asks again", by)))
	return nil
}

func (d *Desk) begin(ctx context.Context, what string) (context.Context, *Run) {
	r := &Run{desk: d, what: what, since: time.Now(), waiting: map[*waiter]bool{}}
	ctx, r.end = context.WithCancelCause(ctx)
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.runs == nil {
		d.runs = map[int]*Run{}
	}
	d.last++
	r.id = d.last
	d.runs[r.id] = r
	return ctx, r
}

func (d *Desk) over(r *Run) {
	r.end(nil)
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.runs, r.id)
}

// errNobody ends what nobody waits for.
var errNobody = fmt.Errorf("nobody waits for it any more: %w", context.Canceled)

func (r *Run) join(w *waiter) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.left {
		return false
	}
	r.waiting[w] = true
	return true
}

func (r *Run) leave(w *waiter) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if delete(r.waiting, w); len(r.waiting) == 0 {
		r.left = true
		r.end(errNobody)
	}
}

// Tell says how large it is, before it is done.
func (r *Run) Tell(size string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.size = size
}

// Do does all steps of a stage, as many at once as there are processors. It ends with the context, before the next step.
func (r *Run) Do(ctx context.Context, stage string, s Steps) error {
	n := s.Steps()
	r.mu.Lock()
	r.stage, r.of, r.begun = stage, n, time.Now()
	r.done.Store(0)
	r.mu.Unlock()
	var next atomic.Int64
	var wait guard.Group
	faults := make(chan error, 1)
	for range min(n, runtime.NumCPU()) {
		wait.Go("computing.Do", func() {
			defer func() {
				if p := recover(); p != nil {
					next.Store(int64(n))
					select {
					case faults <- r.desk.fault(stage, p):
					default: // one is enough
					}
				}
			}()
			for i := int(next.Add(1)) - 1; i < n && ctx.Err() == nil; i = int(next.Add(1)) - 1 {
				r.desk.turn(ctx, func() {
					s.Do(i)
					r.done.Add(1)
				})
			}
		})
	}
	wait.Wait()
	select {
	case err := <-faults:
		return err
	default:
		return context.Cause(ctx)
	}
}

// fault is the error of a computation that panicked: nobody but who waits for it is to suffer from it.
func (d *Desk) fault(stage string, p any) error {
	if d.Log != nil {
		d.Log.Error("a computation failed", "stage", stage, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
	}
	return fmt.Errorf("%s could not be worked out: a fault in the service, which its log tells", stage)
}
