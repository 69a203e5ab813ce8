package gateway

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
)

// Session is what is known of a live session.
type Session struct {
	ID         string            `json:"id"`
	User       string            `json:"user"`
	Groups     []string          `json:"groups" nullable:"false"`
	Passage    string            `json:"passage"`
	Addresses  []netip.Addr      `json:"addresses" nullable:"false" doc:"Leased to the person."`
	From       string            `json:"from" doc:"Address and port that the device is seen at."`
	TCP        bool              `json:"tcp,omitempty" doc:"It comes over TCP, for UDP is dropped on its way."`
	Behind     bool              `json:"behind" doc:"The device is behind a translation."`
	Suite      string            `json:"suite"`
	Tunnel     string            `json:"tunnel"`
	Since      time.Time         `json:"since"`
	Heard      time.Time         `json:"heard,omitzero" doc:"When traffic last came."`
	InPackets  uint64            `json:"in-packets"`
	InBytes    uint64            `json:"in-bytes" doc:"Octets that came from the person."`
	OutPackets uint64            `json:"out-packets"`
	OutBytes   uint64            `json:"out-bytes"`
	Lost       map[string]uint64 `json:"lost" doc:"Packets lost, by station."`
	Missing    uint64            `json:"missing" doc:"Packets that the device sent and that did not come, as their sequence numbers tell."`
	Words      string            `json:"words,omitempty" doc:"What is remarkable about it."`

	// What the device was told at login.
	routes  netset.Addrs
	dns     []netip.Addr
	domains []string
}

// Sessions lists the live sessions by user.
func (g *Gateway) Sessions() []Session {
	g.mu.Lock()
	live := make([]*session, 0, len(g.sessions))
	for _, s := range g.sessions {
		live = append(live, s)
	}
	g.mu.Unlock()
	out := make([]Session, 0, len(live))
	for _, s := range live {
		c := g.engine.CountersOf(s.fwd)
		s.mu.Lock()
		from := s.peer.Addr
		s.mu.Unlock()
		out = append(out, s.status(c, g.seenAt(from)))
	}
	slices.SortFunc(out, func(a, b Session) int { return cmp.Or(cmp.Compare(a.User, b.User), cmp.Compare(a.ID, b.ID)) })
	return out
}

func (s *session) status(c forward.Counters, from string) Session {
	s.mu.Lock()
	defer s.mu.Unlock()
	missing := s.missed
	for _, p := range s.pairs {
		missing += p.opener.Missing()
	}
	return Session{
		Missing: missing, ID: FormatID(uint64(s.id)), User: s.fwd.User, Groups: s.fwd.Groups, Passage: s.lease.passage, Addresses: s.lease.addresses,
		From: from, TCP: s.peer.TCP, Behind: s.nat, Suite: s.suite, Tunnel: s.tunnel, Since: s.since, Heard: c.LastIn,
		InPackets: c.InPackets, InBytes: c.InBytes, OutPackets: c.OutPackets, OutBytes: c.OutBytes, Lost: c.Lost, Words: remark(c),
		routes: s.routes, dns: s.dns, domains: s.domains,
	}
}

func remark(c forward.Counters) string {
	switch {
	case c.InPackets > 3 && c.OutPackets == 0:
		return "sends, but nothing comes back"
	case lostOf(c) > c.InPackets/2 && c.InPackets > 3:
		return "most of what it sends is lost"
	}
	return ""
}

// Status is what the gateway has counted.
type Status struct {
	Sessions  int                             `json:"sessions"`
	LoggingIn int                             `json:"logging-in"`
	Flows     int                             `json:"flows"`
	Dropped   map[string]uint64               `json:"dropped" doc:"Datagrams dropped without an answer, by reason."`
	Rules     map[string]forward.RuleCounters `json:"rules" doc:"What each rule has decided."`
	Unwritten uint64                          `json:"unwritten,omitempty" doc:"Events that found no room on their way to the journal."`
}

// Status gives the gateway's counters.
func (g *Gateway) Status() Status {
	g.mu.Lock()
	c := g.listener.Counters
	s := Status{Sessions: g.listener.Sessions(), LoggingIn: g.listener.HalfOpen()}
	g.mu.Unlock()
	s.Flows, s.Rules = g.engine.Flows(), g.engine.Rules()
	s.Unwritten = g.outbox.left.Load()
	s.Dropped = map[string]uint64{
		"malformed": c.Malformed, "out of state": c.OutOfState, "sent again": c.Replayed, "does not decrypt": c.Undecryptable,
		"too many logins": c.Overload, "asked for a cookie": c.Cookies,
		"ESP of no session": g.dropped.unknownSPI.Load(), "ESP replayed": g.dropped.replayed.Load(),
		"too many at once": g.late.Load(), "ESP forged": g.dropped.forged.Load(), "too short": g.dropped.short.Load(),
	}
	return s
}
