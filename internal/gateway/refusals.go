package gateway

import (
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
)

// Refusals cost a caller a datagram or two, and anybody can send those. So the first of a kind is written at once, and what follows within
// a minute is told together. Strangers have a share of their own: they can neither fill the disk nor hide what concerns a person. At the
// worst that are (60 + 40) · 2 lines of some 300 octets a minute, 86 MB a day.
const (
	refusalsEvery = time.Minute
	mostPersons   = 60 // different refusals of people a minute
	mostStrange   = 40 // and of strangers
)

// refusals are what was refused in the current minute. The gateway's lock guards it.
type refusals struct {
	persons, strangers crowd.Tally
}

func newRefusals() refusals {
	return refusals{
		persons:   crowd.Tally{Every: refusalsEvery, Most: mostPersons},
		strangers: crowd.Tally{Every: refusalsEvery, Most: mostStrange},
	}
}

// refused journals a refusal, or counts it with others like it. g.mu is held.
func (g *Gateway) refused(now time.Time, o tunnel.Refusal) { g.refusedAs(now, o, o.Reason.Key()) }

// noFactor journals that somebody gave a wrong second factor in their session: one device can give a hundred a second. How long it is to
// wait is another time each time.
func (g *Gateway) noFactor(s *session.Session, at netip.AddrPort, why reason.Reason) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.refusedAs(time.Now(), tunnel.Refusal{From: at, User: s.User, Known: true, Reason: why}, string(why.Code))
}

func (g *Gateway) refusedAs(now time.Time, o tunnel.Refusal, kind string) {
	at := o.From
	e := g.event(o.Reason, o.User, at.String())
	e.Time = now
	tally := &g.refusals.strangers
	if o.Known {
		tally = &g.refusals.persons
	}
	key := fmt.Sprint(crowd.Source(at.Addr()), o.User, kind)
	if tally.Lets(e.Time, key, e) {
		g.outbox.put(item{event: e})
	}
}

// tellRefusals journals what was counted, once a minute. g.mu is held.
func (g *Gateway) tellRefusals(now time.Time) {
	for _, t := range []*crowd.Tally{&g.refusals.persons, &g.refusals.strangers} {
		counted, rest := t.Due(now)
		for _, c := range counted {
			e := c.Index.(Event)
			e.Time = now
			e.Reason = e.Reason.And(reason.With{reason.More: strconv.Itoa(c.More), reason.Until: c.Last.Format(time.TimeOnly)})
			g.outbox.put(item{event: e})
		}
		if rest.More > 0 {
			e := g.event(reason.Of(reason.OthersRefused, reason.With{
				reason.Count: strconv.Itoa(rest.More), reason.When: rest.Last.Format(time.TimeOnly),
			}), "", "")
			e.Time = now
			g.outbox.put(item{event: e})
		}
	}
}
