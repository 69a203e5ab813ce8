package commits_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/commits"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// copyOf copies a folder as it is at one moment, as a killed process leaves it: what is written to meanwhile, as the database with the log
// beside it may be, is copied again.
func copyOf(t *testing.T, from, to string) {
	as := func() (out string) {
		files, err := os.ReadDir(from)
		require.NoError(t, err)
		for _, f := range files {
			if info, err := f.Info(); err == nil {
				out += fmt.Sprintln(f.Name(), info.Size(), info.ModTime().UnixNano())
			}
		}
		return out
	}
	for range 100 {
		before := as()
		require.NoError(t, os.RemoveAll(to))
		err := os.CopyFS(to, os.DirFS(from))
		if err == nil && as() == before {
			require.NoError(t, os.Chmod(filepath.Join(to, "key"), 0o600))
			require.NoError(t, os.Chmod(to, 0o700))
			return
		}
	}
	t.Fatal("the folder is never still")
}

// What a service that dies leaves behind is what is on the disk at that moment: a copy of its folder, taken at each step of a commit that
// is tried. Whatever the step, the service that starts on it runs what is recorded, and brings the commit to an end.
func TestEveryStepOfACommitSurvives(t *testing.T) {
	for _, c := range []struct {
		step string

		fine            bool
		newest, present int // revision, and whether the draft is still there
	}{
		{"looking", true, 1, 1},
		{"applied", true, 1, 1},
		{"recorded", true, 2, 0},
		{"recorded", false, 3, 0},
		{"tried", true, 2, 0},
		{"tried", false, 3, 0},
	} {
		name := c.step
		if !c.fine {
			name += " and broken"
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			left := t.TempDir()
			w := start(t, t.TempDir())
			w.at = func(step string) {
				if step == c.step {
					w.at = func(string) {}
					copyOf(t, w.folder, left)
				}
			}
			_, err := w.Commit(w.ctx, "shut", commits.Request{Message: "shut", Try: &trials.Request{}, Accept: w.accept(t, "shut")})
			require.NoError(t, err)
			w.close()

			next := start(t, left)
			next.broken = !c.fine
			require.Equal(t, map[string]int{"looking": 1, "applied": 1}[c.step] == 1, next.gate.ran("web, files, ping"),
				"it runs what is recorded, at once")
			require.Eventually(t, func() bool {
				trial, err := next.Trial(next.ctx)
				return err == nil && trial.Revision == 0
			}, 5*time.Second, 20*time.Millisecond, "the trial comes to its end")
			newest, err := next.Store.Newest(next.ctx)
			require.NoError(t, err)
			require.Equal(t, c.newest, newest.Number)
			require.Equal(t, newest.Number, next.Running.State().Runs)
			require.Equal(t, c.newest != 2, next.gate.ran("web, files, ping"), "what runs is what is recorded as running")
			drafts, err := next.Store.Drafts(next.ctx)
			require.NoError(t, err)
			require.Len(t, drafts, c.present)
			lines, err := next.Journal.Find(next.ctx, journal.Query{Code: "commit-left", Limit: 10})
			require.NoError(t, err)
			require.Len(t, lines, c.present, "what was left is told")
			next.close()
		})
	}
}

// While a round is waited for that sees how things are before a commit, others commit: no lock is held. The first commit then says that it
// must be looked at again, and nothing of it runs. What is edited in between stays a draft.
func TestOthersCommitMeanwhile(t *testing.T) {
	w := start(t, t.TempDir())
	_, err := w.Plans.Save(w.ctx, "other", strings.Replace(w.text, "tern-island", "tern-island-2", 1), 0)
	require.NoError(t, err)
	w.at = func(step string) {
		if step != "looking" {
			return
		}
		w.at = func(string) {}
		_, err := w.Commit(w.ctx, "other", commits.Request{Message: "other", Accept: w.accept(t, "other")})
		require.NoError(t, err, "it does not wait")
	}
	_, err = w.Commit(w.ctx, "shut", commits.Request{Message: "shut", Try: &trials.Request{}, Accept: w.accept(t, "shut")})
	require.Error(t, err)
	require.Regexp(t, "was committed by|look at it again", err.Error(), "the draft may be on the other one by now, as a newer version")
	newest, err := w.Store.Newest(w.ctx)
	require.NoError(t, err)
	require.Equal(t, "other", newest.Message)
	left, err := w.Store.LeftCommits(w.ctx)
	require.NoError(t, err)
	require.Empty(t, left)

	w.wait.Wait() // for drafts being brought onto it
	_, err = w.Plans.Rebase(w.ctx, "shut")
	require.NoError(t, err)
	d, err := w.Plans.Draft(w.ctx, "shut")
	require.NoError(t, err)
	w.at = func(step string) {
		if step == "applied" { // the last moment before it is recorded
			_, err := w.Plans.Save(w.ctx, "shut", d.Text+"# one more thought\n", d.Version)
			require.NoError(t, err)
		}
	}
	_, err = w.Commit(w.ctx, "shut", commits.Request{Message: "shut", Accept: w.accept(t, "shut")})
	require.NoError(t, err)
	w.wait.Wait() // for drafts being brought onto it
	d, err = w.Plans.Draft(w.ctx, "shut")
	require.NoError(t, err, "nobody's edit is lost")
	require.Contains(t, d.Text, "one more thought")
	require.False(t, d.Behind)
	w.close()
}

// A round that the schedule began just then is no reason to take a revision back: it is waited for.
func TestARoundUnderWayIsWaitedFor(t *testing.T) {
	w := start(t, t.TempDir())
	w.busy = 2
	out, err := w.Commit(w.ctx, "shut", commits.Request{Message: "shut", Try: &trials.Request{}, Accept: w.accept(t, "shut")})
	require.NoError(t, err)
	require.NotZero(t, out.Round)
	require.Zero(t, w.busy)
	w.wait.Wait()
	newest, err := w.Store.Newest(w.ctx)
	require.NoError(t, err)
	require.Equal(t, 2, newest.Number)
	trial, err := w.Trial(w.ctx)
	require.NoError(t, err)
	require.Zero(t, trial.Revision, "it is kept")
	w.close()
}

// Whoever commits may leave: what runs by then is tried, and kept, all the same.
func TestWhoeverCommitsMayLeave(t *testing.T) {
	w := start(t, t.TempDir())
	ctx, leave := context.WithCancel(w.ctx)
	w.at = func(step string) {
		if step == "applied" {
			leave()
		}
	}
	_, err := w.Commit(ctx, "shut", commits.Request{Message: "shut", Try: &trials.Request{}, Accept: w.accept(t, "shut")})
	require.NoError(t, err)
	w.wait.Wait()
	newest, err := w.Store.Newest(w.ctx)
	require.NoError(t, err)
	require.Equal(t, 2, newest.Number, "it was not taken back")
	trial, err := w.Trial(w.ctx)
	require.NoError(t, err)
	require.Zero(t, trial.Revision)
	w.close()
}

// world is a service without gateway and lab: what runs is what was applied, and a round sees what it is told.
type world struct {
	*commits.Service
	ctx    context.Context
	folder string
	text   string
	gate   *gate
	at     func(step string)
	broken bool
	busy   int // rounds that are under way when one is to begin
	stop   func()
	wait   *guard.Group
}

func start(t *testing.T, folder string) *world {
	st, err := store.Open(folder)
	require.NoError(t, err)
	log := slog.New(slog.DiscardHandler)
	until, leave := context.WithCancel(t.Context())
	w := &world{
		ctx: actor.With(t.Context(), actor.Actor{Name: "admin"}), folder: folder, at: func(string) {}, gate: &gate{}, stop: leave,
		wait: &guard.Group{},
	}
	w.gate.world = w
	who := people.New(st)
	j, wholes := journal.New(st, log, nil), compiled.New(st, who)
	run := &running.Service{Store: st, Journal: j, Wholes: wholes, Gateway: w.gate, Log: log}
	w.Service = &commits.Service{
		Store: st, Journal: j, Running: run, Trials: tries{w}, Log: log, Until: until, Background: w.wait,
		Plans: &plans.Service{Store: st, People: who, Wholes: wholes, Gateway: w.gate, Log: log},
	}
	island, err := demo.Load("")
	require.NoError(t, err)
	w.text = island.Plan
	if _, err := st.Newest(w.ctx); err != nil { // a new folder
		for _, p := range island.People {
			require.NoError(t, who.Add(w.ctx, people.User{Name: p.User, FullName: p.Name, Groups: p.Groups}, "a password long enough"))
		}
		keys := &trust.Service{Store: st, Running: run, Wholes: wholes}
		require.NoError(t, keys.Ensure(w.ctx))
		_, err := keys.Make(w.ctx, "gate", "gate.tern.example")
		require.NoError(t, err)
		_, err = w.Plans.Save(w.ctx, "first", w.text, 0)
		require.NoError(t, err)
		_, err = w.Commit(w.ctx, "first", commits.Request{Message: "first", Accept: w.accept(t, "first")})
		require.NoError(t, err)
		shut := strings.Replace(w.text, "services: [web, files, ping]}", "services: [web, files]}", 1)
		_, err = w.Plans.Save(w.ctx, "shut", shut, 0)
		require.NoError(t, err)
		w.wait.Wait()
	}
	require.NoError(t, w.Resume(w.ctx))
	return w
}

func (w *world) close() {
	w.stop()
	w.wait.Wait()
	w.Close()
	_ = w.Store.Close()
}

// accept accepts every warning about a draft.
func (w *world) accept(t *testing.T, draft string) (out []plans.Acceptance) {
	r, err := w.Plans.Review(w.ctx, draft)
	require.NoError(t, err)
	for _, f := range r.Findings {
		out = append(out, plans.Acceptance{Finding: f.ID(), Reason: "meant so"})
	}
	return out
}

type gate struct {
	world *world
	mu    sync.Mutex
	plan  string
}

func (g *gate) Preview(*plan.Plan, string) (inside.Preview, error) { return inside.Preview{}, nil }

func (g *gate) Apply(s gateway.Settings) ([]string, error) {
	g.mu.Lock()
	for _, r := range s.Plan.Rules {
		if r.Name == "wardens-inside" {
			g.plan = strings.Join(r.Services, ", ")
		}
	}
	g.mu.Unlock()
	g.world.at("applied")
	return nil, nil
}

func (g *gate) ran(services string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.plan == services
}
func (g *gate) Status() gateway.Status      { return gateway.Status{} }
func (g *gate) Inside() inside.Observed     { return inside.Observed{} }
func (g *gate) Stop()                       {}
func (g *gate) Sessions() []gateway.Session { return nil }

type tries struct{ w *world }

func (x tries) round() (store.Round, error) {
	r := store.Round{At: time.Now().UTC(), State: trials.RoundDone, OK: true}
	return r, x.w.Store.SaveRound(x.w.ctx, &r)
}

func (tries) VantagesFor(_ context.Context, names []string) ([]trials.Vantage, error) {
	return []trials.Vantage{{Name: trials.ThisNetwork}}, nil
}

func (x tries) Baseline(context.Context, int, trials.Request) (uint, error) {
	r, err := x.round()
	x.w.at("looking")
	return r.ID, err
}

func (x tries) Start(ctx context.Context, _ string, _ trials.Request) (trials.Round, <-chan struct{}, error) {
	if x.w.busy > 0 {
		x.w.busy--
		return trials.Round{}, nil, refusal.Conflict("a round is under way")
	}
	x.w.at("recorded")
	if ctx.Err() != nil {
		return trials.Round{}, nil, ctx.Err()
	}
	r, err := x.round()
	done := make(chan struct{})
	close(done)
	x.w.at("tried")
	return trials.Round{ID: r.ID}, done, err
}

// Seen is what a round saw: of the first one that an expectation holds, and of later ones that it does, or does not.
func (x tries) Seen(_ context.Context, id uint) ([]probe.Report, error) {
	ok := id == 1 || !x.w.broken
	r := probe.Report{Class: "wardens", Vantage: "home", Connected: true, OK: ok}
	r.Results = []probe.Result{{
		Trial: reach.Trial{Expectation: "read", Want: true, Dst: netip.MustParseAddr("10.20.30.5"), Place: "records", Service: "tcp/80"}, OK: ok,
	}}
	return []probe.Report{r}, nil
}
