package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
)

// Wire is the version of what service and gateway say to each other. A service and a gateway of other versions do not speak.
const Wire = 9

// ErrOtherWire is where the gateway speaks another version.
var ErrOtherWire = errors.New("it is of another version than this program: start it again, which ends its sessions " +
	"(systemctl restart yellow-lantern-gateway)")

// Call is one call of an agent, as a value: what is set is called. A recording is a stream, and travels beside.
type Call struct {
	Wire    int       `json:"wire"`
	Hand    *Desired  `json:"hand,omitempty"`
	Stop    bool      `json:"stop,omitempty"`
	Observe bool      `json:"observe,omitempty"`
	Events  *Mark     `json:"events,omitempty"` // after which
	Ask     *Question `json:"ask,omitempty"`

	Inquiries *Mark `json:"inquiries,omitempty"` // after which
	// Wait is for how long there may be nothing of either.
	Wait   time.Duration `json:"wait,omitempty"`
	Settle *Settled      `json:"settle,omitempty"`
}

// Settled are rulings on a desk's inquiries.
type Settled struct {
	Of      string   `json:"of"`
	Rulings []Ruling `json:"rulings"`
}

// Reply is what comes of a call.
type Reply struct {
	Wire     int      `json:"wire,omitempty"` // the gateway's, where it is another one: nothing was done
	Applied  Applied  `json:"applied,omitzero"`
	Observed Observed `json:"observed,omitzero"`
	Events   Events   `json:"events,omitzero"`
	Answer   Answer   `json:"answer,omitzero"`
	Error    string   `json:"error,omitempty"`

	Inquiries Inquiries `json:"inquiries,omitzero"`
}

// Serve makes a call of an agent.
func Serve(ctx context.Context, a Agent, c Call) (r Reply) {
	var err error
	switch {
	case c.Wire != Wire:
		return Reply{Wire: Wire}
	case c.Hand != nil:
		r.Applied, err = a.Hand(ctx, *c.Hand)
	case c.Stop:
		err = a.Stop(ctx)
	case c.Observe:
		r.Observed, err = a.Observe(ctx)
	case c.Events != nil:
		ctx, stop := context.WithTimeout(ctx, min(c.Wait, waitMost))
		defer stop()
		r.Events, err = a.Events(ctx, *c.Events)
	case c.Inquiries != nil:
		ctx, stop := context.WithTimeout(ctx, min(c.Wait, waitMost))
		defer stop()
		r.Inquiries, err = a.Inquiries(ctx, *c.Inquiries)
	case c.Settle != nil:
		err = a.Settle(ctx, c.Settle.Of, c.Settle.Rulings)
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
	c.Wire = Wire
	out, err := r.Do(ctx, c)
	if err == nil && out.Wire != 0 {
		err = ErrOtherWire
	}
	if err != nil {
		return out, fmt.Errorf("%w: %w", gateway.ErrNotReached, err)
	}
	if out.Error != "" {
		return out, errors.New(out.Error)
	}
	return out, nil
}

const (
	waitMost = time.Minute     // of one call
	wireTime = 2 * time.Second // for a reply to come back
)

// patiently makes of a context's deadline the time for which the other end waits: an answer that there is nothing must come back within
// the context too.
func patiently(ctx context.Context) (context.Context, time.Duration, context.CancelFunc) {
	wait := waitMost
	if at, ok := ctx.Deadline(); ok {
		wait = max(0, min(wait, time.Until(at)))
	}
	calling, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, func() {
		if ctx.Err() == context.DeadlineExceeded {
			guard.After(wireTime, "agent.patiently", cancel)
			return
		}
		cancel()
	})
	return calling, wait, func() { stop(); cancel() }
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
func (r Remote) Events(ctx context.Context, after Mark) (Events, error) {
	ctx, wait, stop := patiently(ctx)
	defer stop()
	out, err := r.do(ctx, Call{Events: &after, Wait: wait})
	return out.Events, err
}

// Inquiries implements Agent.
func (r Remote) Inquiries(ctx context.Context, after Mark) (Inquiries, error) {
	ctx, wait, stop := patiently(ctx)
	defer stop()
	out, err := r.do(ctx, Call{Inquiries: &after, Wait: wait})
	return out.Inquiries, err
}

// Settle implements Agent.
func (r Remote) Settle(ctx context.Context, of string, rulings []Ruling) error {
	_, err := r.do(ctx, Call{Settle: &Settled{of, rulings}})
	return err
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
