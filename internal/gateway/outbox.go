package gateway

import (
	"context"
	"strconv"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// What is recorded is of two kinds. Admissions wait until they are recorded, and are refused where they cannot be (Config.Admit). All else
// are events: they go into a bounded queue with one writer, and where that does not keep up the newest are left out and counted. No packet
// and no other login ever waits for it.
const outboxSize = 4096

// outbox is the queue of events.
type outbox struct {
	queue chan item
	left  atomic.Uint64 // left out
}

// item is an event, or the end of a session, or a rule's decision of which the words are made when it is written.
type item struct {
	event Event
	over  *Session
	why   reason.Reason // with over
	rule  *decided
	mark  chan struct{} // closed once everything before it is written
	held  int           // events of this kind before it that were left out: too many in a second
}

// decided is what a rule that wants to be told of decided about the first packet of a flow.
type decided struct {
	rule    *site.Rule
	packet  site.Packet
	refused bool
}

func (o *outbox) put(i item) {
	select {
	case o.queue <- i:
	default:
		o.left.Add(1)
	}
}

// write hands events on until the context ends, and then what waits still.
func (g *Gateway) write(ctx context.Context) {
	for {
		select {
		case i := <-g.outbox.queue:
			g.hand(i)
		case <-ctx.Done():
			for {
				select {
				case i := <-g.outbox.queue:
					g.hand(i)
				default:
					return
				}
			}
		}
	}
}

func (g *Gateway) hand(i item) {
	switch {
	case i.mark != nil:
		close(i.mark)
	case i.over != nil:
		if g.cfg.Over != nil {
			g.cfg.Over(*i.over, i.why)
		}
	default:
		e := i.event
		if i.rule != nil {
			e.Reason = i.rule.reason()
		}
		if i.held > 0 {
			e.Reason = e.Reason.And(reason.With{reason.LeftOut: strconv.Itoa(i.held)})
		}
		e.Words = e.Reason.Words()
		g.cfg.Journal(e)
	}
}

// Written waits until every event so far is written, or the context ends: whoever looks for evidence wants the newest.
func (g *Gateway) Written(ctx context.Context) {
	mark := make(chan struct{})
	select {
	case g.outbox.queue <- item{mark: mark}:
	case <-ctx.Done():
		return
	}
	select {
	case <-mark:
	case <-ctx.Done():
	}
}

func (d *decided) reason() reason.Reason {
	code, with := reason.RulePermits, reason.With{
		reason.Rule: d.rule.Name, reason.Service: d.packet.Service.String(), reason.Source: d.packet.Src.String(),
		reason.Destination: d.packet.Dst.String(),
	}
	if d.refused {
		code = reason.RuleRefuses
	}
	if d.rule.Inward() {
		with[reason.Peer] = "device"
	}
	return reason.Of(code, with)
}

// journal puts an event into the queue, within what the journal takes in a second.
func (g *Gateway) journal(e Event) { g.put(item{event: e}) }

func (g *Gateway) put(i item) {
	i.event.Time = time.Now()
	var ok bool
	if ok, i.held = g.lines.lets(i.event.Kind, i.event.Time); ok {
		g.outbox.put(i)
	}
}
