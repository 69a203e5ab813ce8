package gateway

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

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
	event  Event
	over   *Session
	reason string
	rule   *decided
	mark   chan struct{} // closed once everything before it is written
	held   int           // events of this kind before it that were left out: too many in a second
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
			g.cfg.Over(*i.over, i.reason)
		}
	default:
		if i.rule != nil {
			i.event.Words = i.rule.words()
		}
		if i.held > 0 {
			i.event.Words += fmt.Sprintf(" (%d lines of this kind before it were left out: too many in a second)", i.held)
		}
		g.cfg.Journal(i.event)
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

func (d *decided) words() string {
	verdict := "permitted"
	if d.refused {
		verdict = "refused"
	}
	way := "from the person's device "
	if d.rule.Inward() {
		way = "from inside to the person's device "
	}
	return verdict + " by rule " + d.rule.Name + ": " + d.packet.Service.String() + " " + way + d.packet.Src.String() + " to " +
		d.packet.Dst.String()
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
