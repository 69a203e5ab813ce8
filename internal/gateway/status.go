package gateway

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/guard"
)

// Session is what is known of a live session.
type Session struct {
	ID        string       `json:"id"`
	Gateway   string       `json:"gateway"`
	User      string       `json:"user"`
	Groups    []string     `json:"groups" nullable:"false"`
	Passage   string       `json:"passage"`
	Addresses []netip.Addr `json:"addresses" nullable:"false" doc:"Leased to the person."`
	// Prefixes are whole ones, each with one of the addresses.
	Prefixes []netip.Prefix `json:"prefixes,omitempty" nullable:"false" doc:"Leased to the person whole, with one of the addresses in each."`
	From     string         `json:"from" doc:"Address and port that the device is seen at."`
	TCP      bool           `json:"tcp,omitempty" doc:"It comes over TCP, for UDP is dropped on its way."`
	Behind   bool           `json:"behind" doc:"The device is behind a translation."`
	Suite    string         `json:"suite"`
	Key      string         `json:"key,omitempty" doc:"Fingerprint of the key that its person came in by."`

	SharedKeys []string `json:"shared-keys,omitempty" nullable:"false" doc:"IDs of the keys that its person shares with the gateway, and that went into it."`
	// What somebody can make of a recording who has a quantum computer later.
	SafeLogin   bool              `json:"safe-login" doc:"Its login cannot be read later, with a quantum computer, by who recorded it."`
	SafeTraffic bool              `json:"safe-traffic" doc:"Nor can its traffic."`
	Held        bool              `json:"held,omitempty" doc:"Its person has not given their second factor yet: it reaches the code page alone."`
	Coded       time.Time         `json:"coded,omitzero" doc:"When they gave it."`
	Device      string            `json:"device,omitempty" doc:"What the device calls itself; nobody is admitted by it."`
	Tunnel      string            `json:"tunnel"`
	Kind        string            `json:"kind" doc:"Of the tunnel."`
	Since       time.Time         `json:"since"`
	Heard       time.Time         `json:"heard,omitzero" doc:"When traffic last came."`
	InPackets   uint64            `json:"in-packets"`
	InBytes     uint64            `json:"in-bytes" doc:"Octets that came from the person."`
	OutPackets  uint64            `json:"out-packets"`
	OutBytes    uint64            `json:"out-bytes"`
	Lost        map[string]uint64 `json:"lost" doc:"Packets lost, by station."`
	Missing     uint64            `json:"missing" doc:"Packets that the device sent and that did not come, as their sequence numbers tell."`
	Carries     int               `json:"carries,omitempty" doc:"The largest packet inside the tunnel that the way to the device carries, in octets, where its device found that it is less than the tunnel is for."`
	Words       string            `json:"words,omitempty" doc:"What is remarkable about it."`

	told Told
}

// Told is what a device was told at login: it must be told anew where a plan says otherwise.
type Told struct {
	Routes  netset.Addrs `json:"routes"`
	DNS     []netip.Addr `json:"dns"`
	Domains []string     `json:"domains"`
}

// Told is what the session's device was told.
func (s Session) Told() Told { return s.told }

// WithTold is the same session with that, where it came by a wire, which carries both apart.
func (s Session) WithTold(t Told) Session {
	s.told = t
	return s
}

// Sessions lists the live sessions by user.
func (g *Gateway) Sessions() []Session {
	live := g.sessions.All()
	out := make([]Session, 0, len(live))
	for _, s := range live {
		out = append(out, g.status(s))
	}
	slices.SortFunc(out, func(a, b Session) int { return cmp.Or(cmp.Compare(a.User, b.User), cmp.Compare(a.ID, b.ID)) })
	return out
}

// status says what is known of a session.
func (g *Gateway) status(s *session.Session) Session {
	c, at, missing := s.Counted(), session.Where{}, uint64(0)
	if p := s.Path(); p != nil {
		at, missing = p.Where(), p.Missing()
	}
	held, coded := s.Factor()
	fingerprint, carries := "", 0
	if s.Fits() < s.MTU {
		carries = s.Fits()
	}
	if s.Key != nil {
		fingerprint = cert.Fingerprint(s.Key)
	}
	return Session{
		Carries: carries, Held: held, Coded: coded, Key: fingerprint, SharedKeys: s.SharedKeys, Missing: missing, ID: session.FormatID(s.ID), Gateway: s.Gateway, User: s.User, Groups: s.Groups, Passage: s.Passage,
		Addresses: s.Addresses, Prefixes: s.Prefixes, From: g.seenAt(at.Addr).String(), TCP: at.Over == session.OverTCP, Behind: at.Behind, Kind: s.Kind,
		Suite: s.Algorithms, SafeLogin: s.SafeLogin, SafeTraffic: s.SafeTraffic, Device: s.Device, Tunnel: s.Tunnel, Since: s.Since, Heard: c.LastIn, InPackets: c.InPackets, InBytes: c.InBytes,
		OutPackets: c.OutPackets, OutBytes: c.OutBytes, Lost: c.Lost, Words: remark(c, held), told: Told{s.Routes, s.DNS, s.Domains},
	}
}

// Later says what can be read later of a recording.
func (s Session) Later() string {
	switch {
	case s.SafeLogin && s.SafeTraffic:
		return "safe against later decryption"
	case s.SafeTraffic:
		return "traffic safe against later decryption, login not"
	}
	return "not safe against later decryption"
}

func lostOf(c session.Counters) (n uint64) {
	for _, v := range c.Lost {
		n += v
	}
	return n
}

func remark(c session.Counters, held bool) string {
	switch {
	case held:
		return "held until its person gives their second factor"
	case c.InPackets > 3 && c.OutPackets == 0:
		return "sends, but nothing comes back"
	case lostOf(c) > c.InPackets/2 && c.InPackets > 3:
		return "most of what it sends is lost"
	}
	return ""
}

// Status is what the gateway has counted.
type Status struct {
	Gateway   string                          `json:"gateway,omitempty" doc:"Which one; empty: none runs."`
	Sessions  int                             `json:"sessions"`
	LoggingIn int                             `json:"logging-in"`
	Flows     int                             `json:"flows"`
	Dropped   map[string]uint64               `json:"dropped" doc:"Datagrams dropped without an answer, by reason."`
	Rules     map[string]forward.RuleCounters `json:"rules" doc:"What each rule has decided."`
	Inside    inside.Observed                 `json:"inside" doc:"The side away from the tunnels."`
	// Techniques are of the kernel's.
	Techniques []string `json:"techniques,omitempty" nullable:"false" doc:"What of the kernel's packets on their way use; none: nothing beyond one packet at a time."`
	Waiting    int      `json:"waiting" doc:"Events that are not in the journal yet."`
	// Panics are of the gateway's process.
	Panics    map[string]uint64 `json:"panics,omitempty" doc:"Tasks of the gateway's process that failed by a fault of the program and were gone on without, by name."`
	Unwritten uint64            `json:"unwritten,omitempty" doc:"Events that found no room on their way to the journal."`
}

// Status gives the gateway's counters.
func (g *Gateway) Status() Status {
	s := Status{
		Gateway: g.name, Sessions: g.sessions.Len(), Flows: g.engine.Flows(), Rules: g.engine.Rules(), Unwritten: g.outbox.left.Load(),
		Dropped: map[string]uint64{}, Inside: g.Inside(), Panics: guard.Panics(),
	}
	for _, server := range g.servers {
		s.LoggingIn += server.LoggingIn()
		s.Techniques = append(s.Techniques, server.Techniques()...)
		for why, n := range server.Counters() {
			s.Dropped[why] += n
		}
	}
	if k, ok := g.cfg.Inside.(Kernel); ok {
		s.Techniques = append(s.Techniques, k.Techniques()...)
	}
	return s
}
