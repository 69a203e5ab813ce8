package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"yellowlantern/internal/gateway"
	"yellowlantern/internal/private"
)

// Local is a gateway in this process.
type Local struct {
	Runner *gateway.Runner
	Log    *Log // that the gateway tells of events
	Desk   *Desk
	// Folder keeps what runs, with the keys of its certificates, so that the gateway comes back with it by itself; empty: it is told
	// anew.
	Folder string

	mu   sync.Mutex // one change after the other
	runs []byte     // what was handed over last, as JSON; nil: nothing runs
}

// desiredName is the file of what runs.
const desiredName = "running.json"

// Resume runs what ran before, if anything did. It says whether something runs.
func (l *Local) Resume() (bool, error) {
	if l.Folder == "" {
		return false, nil
	}
	path := filepath.Join(l.Folder, desiredName)
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err == nil {
		err = private.Check(path)
	}
	var want Desired
	if err == nil {
		err = json.Unmarshal(b, &want)
	}
	if err != nil {
		return false, fmt.Errorf("what ran before, in %s: %w", path, err)
	}
	want.Again = true
	_, err = l.Hand(context.Background(), want)
	return err == nil, err
}

// Hand implements Agent. What runs already goes on as it is.
func (l *Local) Hand(_ context.Context, want Desired) (Applied, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	again := want.Again
	want.Again = false
	b, err := json.Marshal(want)
	if err != nil {
		return Applied{}, err
	}
	if again && bytes.Equal(b, l.runs) {
		return Applied{}, nil
	}
	want.Again = again
	set, err := want.settings()
	if err != nil {
		return Applied{}, err
	}
	next, err := l.prepare(b)
	if err != nil {
		return Applied{}, fmt.Errorf("what is to run cannot be kept in the gateway's folder, so it would not come back: %w", err)
	}
	ended, err := l.Runner.Apply(set)
	if err != nil {
		_ = os.Remove(next)
		return Applied{}, err
	}
	l.runs = b
	return Applied{ended}, l.keep(next)
}

// prepare writes what is to run beside what runs; keep puts it in its place once it does.
func (l *Local) prepare(b []byte) (next string, err error) {
	if l.Folder == "" {
		return "", nil
	}
	next = filepath.Join(l.Folder, desiredName+".next")
	return next, private.Write(next, b)
}

func (l *Local) keep(next string) error {
	if next == "" {
		return nil
	}
	return os.Rename(next, filepath.Join(l.Folder, desiredName))
}

// Stop implements Agent. It does not come back by itself.
func (l *Local) Stop(context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.Runner.Stop()
	l.runs = nil
	if l.Folder == "" {
		return nil
	}
	if err := os.Remove(filepath.Join(l.Folder, desiredName)); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// Observe implements Agent.
func (l *Local) Observe(context.Context) (Observed, error) {
	last, waiting, left := l.Log.counted()
	s := l.Runner.Status()
	s.Waiting = waiting
	s.Unwritten += left
	return Observed{l.Runner.Revision(), s, l.Runner.Inside(), last}, nil
}

// Events implements Agent.
func (l *Local) Events(ctx context.Context, after Mark) (Events, error) {
	return l.Log.after(ctx, after), nil
}

// Inquiries implements Agent.
func (l *Local) Inquiries(ctx context.Context, after Mark) (Inquiries, error) {
	return l.Desk.inquiries(ctx, after), nil
}

// Settle implements Agent.
func (l *Local) Settle(_ context.Context, of string, rulings []Ruling) error {
	l.Desk.settle(of, rulings)
	return nil
}

// Ask implements Agent.
func (l *Local) Ask(ctx context.Context, q Question) (out Answer, err error) {
	if q.Sessions {
		for _, s := range l.Runner.Sessions() {
			out.Sessions = append(out.Sessions, Session{s, s.Told()})
		}
	}
	if q.Pools {
		out.Pools = l.Runner.Pools()
	}
	if q.Inside {
		out.Inside = l.Runner.Inside()
	}
	if f := q.Flows; f != nil {
		out.Flows = l.Runner.Flows(f.User, f.Peer, f.Service, f.Most)
	}
	if q.End != nil {
		err = l.Runner.End(q.End.ID, q.End.Why)
	}
	if q.Limit != nil {
		l.Runner.Limit(q.Limit.User, q.Limit.Limits)
	}
	if q.Lookup.IsValid() {
		if looked, ok := l.Runner.Lookup(q.Lookup); ok {
			out.Looked = &looked
		}
	}
	if x := q.Preview; x != nil {
		out.Preview, err = l.Runner.Preview(&x.Plan, x.Gateway)
	}
	if q.Follow != "" {
		out.Follows = l.Runner.Follow(q.Follow)
	}
	if q.Followed != "" {
		out.Evidence, out.Follows = l.Runner.Followed(q.Followed)
	}
	if q.Written {
		l.Runner.Written(ctx)
		last, _, _ := l.Log.counted()
		out.Written = Mark{l.Log.name, last}
	}
	return out, err
}

// Record implements Agent.
func (l *Local) Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error {
	return l.Runner.Record(ctx, id, limits, w)
}
