package agent

import (
	"context"
	"errors"
	"io"

	"yellowlantern/internal/gateway"
)

// Call is one call of an agent, as a value: what is set is called. A recording is a stream, and travels beside.
type Call struct {
	Hand    *Desired  `json:"hand,omitempty"`
	Stop    bool      `json:"stop,omitempty"`
	Observe bool      `json:"observe,omitempty"`
	Events  *uint64   `json:"events,omitempty"` // after which
	Ask     *Question `json:"ask,omitempty"`
}

// Reply is what comes of a call.
type Reply struct {
	Applied  Applied  `json:"applied,omitzero"`
	Observed Observed `json:"observed,omitzero"`
	Events   []Event  `json:"events,omitempty"`
	Answer   Answer   `json:"answer,omitzero"`
	Error    string   `json:"error,omitempty"`
}

// Serve makes a call of an agent.
func Serve(ctx context.Context, a Agent, c Call) (r Reply) {
	var err error
	switch {
	case c.Hand != nil:
		r.Applied, err = a.Hand(ctx, *c.Hand)
	case c.Stop:
		err = a.Stop(ctx)
	case c.Observe:
		r.Observed, err = a.Observe(ctx)
	case c.Events != nil:
		r.Events, err = a.Events(ctx, *c.Events)
	case c.Ask != nil:
		r.Answer, err = a.Ask(ctx, *c.Ask)
	default:
		err = errors.New("nothing is called")
	}
	if err != nil {
		r.Error = err.Error()
	}
	return r
}

// Remote is an agent at the other end of a wire.
type Remote struct {
	// Do carries a call there, and its reply back. An error means that it may or may not have arrived: every call can be made again.
	Do func(ctx context.Context, c Call) (Reply, error)
	// Stream carries a recording.
	Stream func(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error
}

func (r Remote) do(ctx context.Context, c Call) (Reply, error) {
	out, err := r.Do(ctx, c)
	if err == nil && out.Error != "" {
		err = errors.New(out.Error)
	}
	return out, err
}

// Hand implements Agent.
func (r Remote) Hand(ctx context.Context, want Desired) (Applied, error) {
	out, err := r.do(ctx, Call{Hand: &want})
	return out.Applied, err
}

// Stop implements Agent.
func (r Remote) Stop(ctx context.Context) error {
	_, err := r.do(ctx, Call{Stop: true})
	return err
}

// Observe implements Agent.
func (r Remote) Observe(ctx context.Context) (Observed, error) {
	out, err := r.do(ctx, Call{Observe: true})
	return out.Observed, err
}

// Events implements Agent.
func (r Remote) Events(ctx context.Context, after uint64) ([]Event, error) {
	out, err := r.do(ctx, Call{Events: &after})
	return out.Events, err
}

// Ask implements Agent.
func (r Remote) Ask(ctx context.Context, q Question) (Answer, error) {
	out, err := r.do(ctx, Call{Ask: &q})
	return out.Answer, err
}

// Record implements Agent.
func (r Remote) Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error {
	return r.Stream(ctx, id, limits, w)
}
