package agent

import (
	"context"
	"io"

	"yellowlantern/internal/gateway"
)

// Local is a gateway in this process.
type Local struct {
	Runner *gateway.Runner
	Log    *Log // that the gateway tells of events
}

// Hand implements Agent.
func (l *Local) Hand(_ context.Context, want Desired) (Applied, error) {
	set, err := want.settings()
	if err != nil {
		return Applied{}, err
	}
	ended, err := l.Runner.Apply(set)
	return Applied{ended}, err
}

// Stop implements Agent.
func (l *Local) Stop(context.Context) error {
	l.Runner.Stop()
	return nil
}

// Observe implements Agent.
func (l *Local) Observe(context.Context) (Observed, error) {
	last, left := l.Log.counted()
	return Observed{l.Runner.Revision(), l.Runner.Status(), l.Runner.Inside(), last, left}, nil
}

// Events implements Agent.
func (l *Local) Events(ctx context.Context, after uint64) ([]Event, error) {
	return l.Log.after(ctx, after), nil
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
	if q.Lookup.IsValid() {
		if looked, ok := l.Runner.Lookup(q.Lookup); ok {
			out.Looked = &looked
		}
	}
	if x := q.Preview; x != nil {
		out.Preview, err = l.Runner.Preview(&x.Plan, x.Gateway)
	}
	if q.Written {
		l.Runner.Written(ctx)
		out.Sequence, _ = l.Log.counted()
	}
	return out, err
}

// Record implements Agent.
func (l *Local) Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error {
	return l.Runner.Record(ctx, id, limits, w)
}
