package probe

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
)

// Slim leaves of each trial what it was of and what was seen: the service knows the rest.
func (r *Report) Slim() {
	r.Checks, r.Causes = []Check{}, []string{}
	out := make([]Result, len(r.Results))
	for i, x := range r.Results {
		slim := &out[i]
		slim.Dst, slim.Service, slim.Name, slim.Edge = x.Dst, x.Service, x.Name, x.Edge
		slim.Seen, slim.Before, slim.Home, slim.Untried = x.Seen, x.Before, x.Home, x.Untried
	}
	r.Results = out
}

// Recorded judges again what a probe elsewhere says, against an order of the service's own, and believes of it what the gateway's record
// agrees with: that something answered, where the gateway carried an answer; that something is refused, where the gateway refused it; that
// something which is expected does not answer, where a packet of it came to the gateway. All else is not judged, which is no success.
func (r *Report) Recorded(o Order, record forward.Evidence, now time.Time) *Report {
	in := *r
	in.Results = slices.Clone(r.Results)
	switch {
	case in.Connected && !record.Began:
		return in.unrecorded(o, "the probe says that it logged in, and the gateway had no session of it", now)
	case !in.Connected && record.Began:
		return in.unrecorded(o, "the gateway had a session, and the probe says that it could not log in: "+r.Login, now)
	case !in.Connected && record.Refused.Code == "":
		return in.unrecorded(o, "the probe could not log in, and the gateway has no record of it: "+r.Login, now)
	case !in.Connected:
		in.Login, in.Fault = record.Refused.Words(), reason.FaultRefused
	}
	decisions := map[target]forward.Decision{}
	for _, d := range record.Decisions {
		decisions[target{d.Dst, d.Service}] = d
	}
	ordered := map[key]reach.Trial{}
	for _, t := range o.Trials {
		ordered[keyOf(t)] = t
	}
	for i := range in.Results {
		x := &in.Results[i]
		x.Trial = ordered[keyOf(x.Trial)]
		if d, known := decisions[target{x.Dst, point(x.Service)}]; in.Connected && !x.Untried {
			x.agrees(d, known)
		}
	}
	out := in.Again(o, now)
	out.At, out.Handed, out.Tester, out.AtGateway = now, false, true, r.AtGateway
	if n := out.Unconfirmed(); n > 0 {
		out.OK = false
		out.Causes = append(out.Causes, fmt.Sprintf(
			"%d trials are not judged: the gateway has no record that agrees with what the probe says", n))
	}
	return out
}

type target struct {
	dst     netip.Addr
	service netset.Point
}

// Unconfirmed tells whether it is not judged, for the gateway's record does not say the same.
func (r *Result) Unconfirmed() bool { return r.Seen.Among(reason.Unconfirmed) }

// agrees leaves what was seen as it is where the gateway's record says the same; known is whether it has anything of it.
func (r *Result) agrees(d forward.Decision, known bool) {
	refused := d.Lost != ""
	switch {
	case known && d.Answered && r.Seen.Reached:
	case known && d.Answered: // whatever the probe says of it: something inside answered
		r.Seen = saw(reason.AnswerCarried, nil).reached()
	case known && refused && !r.Seen.Reached:
	case known && !r.Seen.Reached && !r.Seen.Refused && (r.Want || r.Edge): // it was let through, and nothing came back
	default:
		r.Seen, r.Untried = saw(reason.Unconfirmed, nil), true
	}
}

// unrecorded is a report of which nothing is known.
func (r *Report) unrecorded(o Order, why string, now time.Time) *Report {
	r.Results, r.Connected = nil, false
	out := r.Again(o, now)
	out.At, out.Handed, out.Tester, out.NotTried, out.OK = now, false, true, true, false
	out.Login, out.Fault, out.Differs = "not judged: "+why, reason.FaultOther, 0
	out.Causes = []string{out.Login}
	for i := range out.Results {
		x := &out.Results[i]
		x.Seen, x.Untried, x.OK = saw(reason.Unconfirmed, nil), true, false
	}
	return out
}

// Judged tells whether all that was to be tried was.
func (r *Report) Judged() bool { return !r.NotTried && r.Unconfirmed() == 0 }

// Unconfirmed counts what is not judged, for the gateway's record does not say the same: what is looked for by chance, and packets at a
// boundary, are not among it.
func (r *Report) Unconfirmed() (n int) {
	for _, x := range r.Results {
		if x.Unconfirmed() && !x.Edge && !x.Search {
			n++
		}
	}
	return n
}
