package gateway

import (
	"fmt"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/ike"
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
func (g *Gateway) refused(now time.Time, o ike.Note) {
	at := g.whereIs(o.Peer)
	e := Event{
		Time: now, Kind: "refused", User: o.User, From: at.String(), Words: o.Words, Code: o.Code, Offered: o.Offered, Wanted: o.Wanted,
	}
	tally := &g.refusals.strangers
	if o.Known {
		tally = &g.refusals.persons
	}
	key := fmt.Sprint(crowd.Source(at.Addr()), o.User, o.Code, o.Words, o.Offered, o.Wanted)
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
			e.Words = fmt.Sprintf("%d more like this until %s: %s", c.More, c.Last.Format(time.TimeOnly), e.Words)
			g.outbox.put(item{event: e})
		}
		if rest.More > 0 {
			g.outbox.put(item{event: Event{Time: now, Kind: "refused", Words: fmt.Sprintf(
				"%d more refusals of other kinds or from other places until %s: too many to be told one by one",
				rest.More, rest.Last.Format(time.TimeOnly))}})
		}
	}
}
