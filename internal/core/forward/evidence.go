package forward

import (
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reason"
)

// Bounds of what is kept for those who ask for it.
const (
	followedTime      = 15 * time.Minute
	mostFollowed      = 64
	mostDecisionsKept = 20000
)

// Evidence is the gateway's record of one user: what nobody but the gateway itself says of their trials.
type Evidence struct {
	Began     bool          `json:"began,omitempty"`     // a session of theirs carried packets
	Refused   reason.Reason `json:"refused,omitzero"`    // why their newest login was refused
	Decisions []Decision    `json:"decisions,omitempty"` // in the order of the first packet
}

// Decision is what became of the packets of a user's device towards one service of one address.
type Decision struct {
	Dst      netip.Addr   `json:"dst"`
	Service  netset.Point `json:"service"`
	Lost     string       `json:"lost,omitempty"` // at which station; empty: it was let through
	Answered bool         `json:"answered,omitempty"`
}

// following is kept while somebody is going to ask for it. Decisions are guarded by mu, which is taken after a session's lock.
type following struct {
	until time.Time

	mu   sync.Mutex
	is   Evidence
	at   map[decided]int // in is.Decisions
	from []*flow         // as is.Decisions: what was let through; nil: nothing was, or the gateway itself answered
}

type decided struct {
	dst     netip.Addr
	service netset.Point
}

// followings are by user.
type followings struct {
	mu sync.Mutex
	of map[string]*following
}

// Follow keeps a record of a user's logins and sessions that begin from now on, until Followed takes it, for 15 minutes at most. It tells
// whether it does: of more than 64 users at once it does not.
func (e *Engine) Follow(user string, now time.Time) bool {
	o := &e.followed
	o.mu.Lock()
	defer o.mu.Unlock()
	for name, one := range o.of {
		if now.After(one.until) {
			delete(o.of, name)
		}
	}
	if len(o.of) >= mostFollowed {
		return false
	}
	if o.of == nil {
		o.of = map[string]*following{}
	}
	o.of[user] = &following{until: now.Add(followedTime), at: map[decided]int{}}
	return true
}

// Followed gives the record of a user and ends it; false: nobody asked for one to be kept.
func (e *Engine) Followed(user string) (Evidence, bool) {
	o := e.followed.find(user)
	if o == nil {
		return Evidence{}, false
	}
	e.followed.mu.Lock()
	delete(e.followed.of, user)
	e.followed.mu.Unlock()
	o.mu.Lock()
	out, from := o.is, slices.Clone(o.from)
	out.Decisions = slices.Clone(o.is.Decisions)
	o.mu.Unlock()
	for i, f := range from {
		if f == nil {
			continue
		}
		f.session.Lock()
		out.Decisions[i].Answered = f.got.packets > 0 || f.out.Self
		f.session.Unlock()
	}
	return out, true
}

// RefusedLogin notes that a login of a user was refused, where a record of them is kept.
func (e *Engine) RefusedLogin(user string, why reason.Reason) {
	if o := e.followed.find(user); o != nil {
		o.mu.Lock()
		o.is.Refused = why
		o.mu.Unlock()
	}
}

func (o *followings) find(user string) *following {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.of[user]
}

// begins notes that a session of the user carries packets.
func (o *following) begins() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.is.Began = true
}

// notes what became of a packet of the person's. Their session is locked.
func (o *following) notes(s *attached, info packet.Info, key flowKey, r Result) {
	o.mu.Lock()
	defer o.mu.Unlock()
	d := decided{info.Dst, info.Service()}
	f := s.flows[key]
	i, known := o.at[d]
	switch {
	case !known && len(o.at) >= mostDecisionsKept, known && f == nil:
		return
	case !known:
		i = len(o.is.Decisions)
		o.at[d] = i
		o.is.Decisions, o.from = append(o.is.Decisions, Decision{}), append(o.from, nil)
	}
	o.from[i] = f
	o.is.Decisions[i] = Decision{Dst: d.dst, Service: d.service, Lost: r.Station, Answered: f == nil && r.Station == "" && r.Session != nil}
}
