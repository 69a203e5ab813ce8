package lab

import (
	"net/netip"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// Port is what the lab is called as a gateway's inside.
const Port = "site-lab"

// Apply lets the gateway answer for people's addresses on the link that it is plugged into. Of the plan the lab learns nothing else.
func (l *Lab) Apply(want inside.Desired) inside.Observed {
	s := l.segments[l.d.Gateway.Inside.Segment]
	out := inside.Observed{Port: Port, Problems: []inside.Problem{}}
	defer func() { l.observed.Store(&out) }()
	s.mu.Lock()
	s.answers = map[netip.Addr]chan []byte{}
	s.mu.Unlock()
	var astray netset.Addrs
	for _, a := range want.Answers {
		if s.holds(a) {
			l.Answer(a, true)
		} else {
			astray = astray.Union(netset.OfAddrs(a))
		}
	}
	if len(astray) > 0 {
		out.Problems = append(out.Problems, inside.Told(reason.Of(reason.AnswersNowhere, reason.With{reason.Addresses: astray.String()})))
	}
	return out
}

// Observed tells how it was at the last Apply.
func (l *Lab) Observed() inside.Observed {
	if out := l.observed.Load(); out != nil {
		return *out
	}
	return inside.Observed{Port: Port, Problems: []inside.Problem{}}
}

// Answer lets the gateway answer for an address on the link that it is plugged into, or no longer.
func (l *Lab) Answer(a netip.Addr, on bool) {
	s := l.segments[l.d.Gateway.Inside.Segment]
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.answers == nil {
		s.answers = map[netip.Addr]chan []byte{}
	}
	if on && s.holds(a) {
		s.answers[a] = l.inside
	} else {
		delete(s.answers, a)
	}
}

// Answers tells whether the gateway answers for an address.
func (l *Lab) Answers(a netip.Addr) bool {
	s := l.segments[l.d.Gateway.Inside.Segment]
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.answers[a] != nil
}
