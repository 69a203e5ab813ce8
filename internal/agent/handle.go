package agent

import (
	"context"
	"errors"
	"io"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

// handPatience is for how long a gateway may take to run something else.
const handPatience = 2 * time.Minute

// patience is for how long an answer is waited for that the service cannot do without.
const patience = 10 * time.Second

// Handle is an agent in the hand of the service: what the service asks of a gateway, in its own terms, and the loop that takes events.
// Where the gateway is not reached, lists are empty and the inside says why, so that nothing is shown as right.
type Handle struct {
	Agent
	// Happened is told of events in their order, some at once, with the mark that is taken with them. It tells whether it took them: if
	// not, they stay where they are.
	Happened func(context.Context, []Event, Mark) bool
	// People and Admit rule on what the gateway asks.
	People gateway.People
	Admit  func(gateway.Event) error
	// Away is told that the gateway is not reached any longer, and Back that it is again: it may be another process by then. nil:
	// nobody.
	Away func(error)
	Back func()

	talks talks

	mu    sync.Mutex
	taken Mark          // of the newest event that was handed on
	moved chan struct{} // closed when taken moves
	away  bool          // the gateway was not reached last
}

// NewHandle takes an agent in hand; what is up to a mark was taken before.
func NewHandle(a Agent, taken Mark) *Handle {
	return &Handle{Agent: a, moved: make(chan struct{}), taken: taken}
}

func bounded() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), patience)
}

// Apply makes settings what runs.
func (h *Handle) Apply(set gateway.Settings) ([]string, error) {
	d, err := want(set)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(context.Background(), handPatience) // a large plan takes long
	defer stop()
	done, err := h.Hand(ctx, d)
	if errors.Is(err, gateway.ErrNotReached) {
		h.mu.Lock()
		h.away = true // and told to run it once it is reached
		h.mu.Unlock()
	}
	return done.Ended, err
}

// Stop ends every session, as far as the gateway is reached.
func (h *Handle) Stop() {
	ctx, stop := bounded()
	defer stop()
	_ = h.Agent.Stop(ctx)
}

// notReached is how the inside is of a gateway that does not answer.
func notReached(err error) inside.Observed {
	return inside.Observed{Problems: []inside.Problem{
		inside.Told(reason.Of(reason.GatewayNotReached, reason.With{reason.Error: err.Error()})),
	}}
}

// Status is what it has counted.
func (h *Handle) Status() gateway.Status {
	ctx, stop := bounded()
	defer stop()
	o, err := h.Observe(ctx)
	if err != nil {
		return gateway.Status{Dropped: map[string]uint64{}, Rules: map[string]forward.RuleCounters{}, Inside: notReached(err)}
	}
	return o.Status
}

// Inside is how the side away from the tunnels is.
func (h *Handle) Inside() inside.Observed {
	a, err := h.ask(Question{Inside: true})
	if err != nil {
		return notReached(err)
	}
	return a.Inside
}

func (h *Handle) ask(q Question) (Answer, error) {
	ctx, stop := bounded()
	defer stop()
	return h.Ask(ctx, q)
}

// Sessions lists live sessions.
func (h *Handle) Sessions() []gateway.Session {
	out, _ := h.Live()
	return out
}

// Live lists live sessions; an error is that the gateway did not say.
func (h *Handle) Live() ([]gateway.Session, error) {
	a, err := h.ask(Question{Sessions: true})
	out := make([]gateway.Session, len(a.Sessions))
	for i, s := range a.Sessions {
		out[i] = s.Session.WithTold(s.Told)
	}
	return out, err
}

// Pools tells of every pool what is leased.
func (h *Handle) Pools() []gateway.Pool {
	a, _ := h.ask(Question{Pools: true})
	return append([]gateway.Pool{}, a.Pools...)
}

// Flows lists live flows.
func (h *Handle) Flows(user string, peer netip.Addr, service string, most int) []forward.Flow {
	a, _ := h.ask(Question{Flows: &Flows{user, peer, service, most}})
	return append([]forward.Flow{}, a.Flows...)
}

// Follow keeps a record of what becomes of a user's logins and packets from now on. An error is that it does not.
func (h *Handle) Follow(user string) error {
	a, err := h.ask(Question{Follow: user})
	if err == nil && !a.Follows {
		err = errors.New("the gateway keeps no record of it")
	}
	return err
}

// Followed gives that record, which ends with it. An error is that there is none.
func (h *Handle) Followed(user string) (forward.Evidence, error) {
	a, err := h.ask(Question{Followed: user})
	if err == nil && !a.Follows {
		err = errors.New("the gateway has no record of it: it was started again meanwhile")
	}
	return a.Evidence, err
}

// Preview is what a plan would make of the gateway's machine.
func (h *Handle) Preview(p *plan.Plan, name string) (inside.Preview, error) {
	a, err := h.ask(Question{Preview: &Preview{name, Part(p, name)}})
	return a.Preview, err
}

// Lookup is where the gateway's machine would send a packet; nil where it has no kernel that routes.
func (h *Handle) Lookup(dst netip.Addr) *inside.Looked {
	a, _ := h.ask(Question{Lookup: dst})
	return a.Looked
}

// End ends a session.
func (h *Handle) End(id uint64, why reason.Reason) error {
	_, err := h.ask(Question{End: &End{id, why}})
	return err
}

// Limit tells a person's sessions what that person's limits are now; those that they end, end.
func (h *Handle) Limit(user string, l login.Limits) error {
	_, err := h.ask(Question{Limit: &Limit{user, l}})
	return err
}

// Record writes a session's packets.
func (h *Handle) Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error {
	return h.Agent.Record(ctx, id, limits, w)
}

// Take hands on events as they come, until the context ends; what is there then is still handed on.
func (h *Handle) Take(ctx context.Context) {
	for ctx.Err() == nil {
		if _, err := h.take(ctx); err != nil {
			rest(ctx)
		}
	}
	over, stop := context.WithTimeout(context.Background(), lastEvents)
	defer stop()
	for more, err := true, error(nil); more && err == nil; {
		over, stop := context.WithTimeout(over, aMoment) // of what is there, without waiting for more
		more, err = h.take(over)
		stop()
	}
}

// lastEvents is for how long events are taken still at the end; aMoment is for how long nothing is waited for.
const (
	lastEvents = 5 * time.Second
	aMoment    = 20 * time.Millisecond
	mostAtOnce = 256 // events that are handed on together
)

var errUntaken = errors.New("the events could not be taken")

// take takes what is there, and tells whether there was something.
func (h *Handle) take(ctx context.Context) (bool, error) {
	h.mu.Lock()
	after, away := h.taken, h.away
	h.mu.Unlock()
	asking := ctx
	if away { // whether it is there is of interest, not what happened
		var stop context.CancelFunc
		asking, stop = context.WithTimeout(ctx, aMoment)
		defer stop()
	}
	got, err := h.Events(asking, after)
	h.reached(ctx, err)
	for some := range slices.Chunk(got.Events, mostAtOnce) {
		at := Mark{got.Of, some[len(some)-1].Sequence}
		if !h.Happened(ctx, some, at) {
			return false, errUntaken
		}
		h.mu.Lock()
		h.taken = at
		close(h.moved)
		h.moved = make(chan struct{})
		h.mu.Unlock()
	}
	return len(got.Events) > 0, err
}

// reached notes whether the gateway was, and tells of a change.
func (h *Handle) reached(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return
	}
	h.mu.Lock()
	was := h.away
	h.away = err != nil
	h.mu.Unlock()
	switch {
	case err != nil && !was && h.Away != nil:
		h.Away(err)
	case err == nil && was && h.Back != nil:
		h.Back()
	}
}

// Written waits until every event so far was handed on, or the context ends.
func (h *Handle) Written(ctx context.Context) {
	a, err := h.Ask(ctx, Question{Written: true})
	for err == nil {
		h.mu.Lock()
		taken, moved := h.taken, h.moved
		h.mu.Unlock()
		if taken.Of == a.Written.Of && taken.Sequence >= a.Written.Sequence || a.Written.Sequence == 0 {
			return
		}
		select {
		case <-moved:
		case <-ctx.Done():
			return
		}
	}
}
