package probe

import (
	"errors"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/dial"
)

// Again judges anew what a report says was seen, against an order of the service's own: what was to be tried, what is expected and what is
// computed are taken from there, and nothing of the report's own judgement. Trials that were not asked for are left out; those that it has
// nothing of were not tried.
func (r *Report) Again(o Order, now time.Time) *Report {
	out := &Report{
		At: r.At, User: o.User, Class: o.Class, Vantage: r.Vantage, Passage: o.Passage, Revision: o.Revision, Inside: r.Inside, Handed: true,
		Connected: r.Connected, Login: r.Login, Dialled: append([]netip.Addr{}, r.Dialled...), Given: r.Given, Largest: r.Largest,
		Checks: []Check{}, Causes: []string{}, Results: make([]Result, len(o.Trials)), own: o.Own,
	}
	if out.At.After(now) || out.At.IsZero() {
		out.At = now
	}
	if out.Largest < 0 || out.Largest > o.MTU {
		out.Largest = 0
	}
	seen := map[key]*Result{}
	for i := range r.Results {
		seen[keyOf(r.Results[i].Trial)] = &r.Results[i]
	}
	for i, t := range o.Trials {
		x := &out.Results[i]
		x.Trial = t
		was := seen[keyOf(t)]
		if was != nil && was.Untried && was.Unconfirmed() {
			x.Untried, x.OK, x.Seen = true, t.Edge || t.Search, saw(reason.Unconfirmed, nil)
			continue
		}
		if was == nil || was.Untried {
			x.Untried, x.OK, x.Seen = true, true, Seen{Words: "not tried"}
			continue
		}
		x.Seen = was.Seen.again()
		if was.Before != nil {
			before := was.Before.again()
			x.Before = &before
		}
		if home, err := netip.ParsePrefix(was.Home); err == nil && home.Contains(t.Dst) {
			x.Home = home.String()
		}
	}
	if !out.Connected {
		out.notConnected(o, &dial.Fault{Code: r.Fault, Err: errors.New(reason.Of(r.Fault, nil).Words())})
		out.Login = r.Login
		return out
	}
	if out.Given == nil {
		out.Given = &Given{}
	}
	out.checkGiven(o)
	out.checkSize(o)
	out.judge()
	return out
}

// key is what is the same of a trial, whoever wrote it down.
type key struct {
	dst           netip.Addr
	service, name string
	edge          bool
}

func keyOf(t reach.Trial) key { return key{t.Dst, t.Service, t.Name, t.Edge} }

// again is what was seen, in words that are made here of its code. What has no code that is known keeps what it says.
func (s Seen) again() Seen {
	s.Served = s.Served && s.Reached
	s.Refused = s.Refused && s.Among(reason.RouterSaid)
	if slices.ContainsFunc(reason.All(), func(m reason.Meaning) bool { return m.Code == s.Code }) {
		s.Words = s.Reason.Words()
	}
	return s
}
