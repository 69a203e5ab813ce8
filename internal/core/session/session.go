// Package session holds the one record of every session of a gateway, from the moment that somebody is admitted until the end: who it is,
// what was leased, how it comes in, what it counted, why it ended. Tunnels, forwarding and the gateway refer to it, and keep no copy of
// it.
package session

import (
	"fmt"
	"maps"
	"net/netip"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// Session is one person's session. What stands first is settled at admission.
type Session struct {
	ID         uint64
	Gateway    string
	User       string
	Groups     []string
	Passage    string
	Pool       string
	Tunnel     string
	Kind       string // of tunnel
	Algorithms string
	Device     string   // what it calls itself
	Key        []byte   // the public key that its person proved themselves with, DER
	SharedKeys []string // IDs of those that went in
	// SafeLogin and SafeTraffic are that what was recorded of either cannot be read later, with a quantum computer.
	SafeLogin, SafeTraffic bool
	Since                  time.Time
	Coded                  time.Time    // when a second factor was given; zero: none was, or none is asked for
	LoggedIn               time.Time    // earlier than Since where its person came back without logging in anew
	Routes                 netset.Addrs // that its device was told, and names
	DNS                    []netip.Addr
	Domains                []string
	// Addresses are leased to it. They change no more once it is up.
	Addresses []netip.Addr
	// Prefixes are leased to it whole, each with one of the addresses in it.
	Prefixes []netip.Prefix

	limits atomic.Pointer[login.Limits]
	why    reason.Reason // of its end

	// What packets of it look at stands together: where each packet is another session's, memory is what it waits for.
	path  atomic.Pointer[Path]
	mu    sync.Mutex // of what follows, and of why
	state State
	held  bool // until its person has given their second factor

	ClampMSS bool // TCP is told that segments must fit the tunnel; settled at admission
	MTU      int  // of the tunnel, inside, in octets; settled at admission
	// carries is the largest packet inside the tunnel that the way to the device carries, in octets; 0: not known.
	carries atomic.Int32
	// Forwarding is what forwarding keeps with it, while it is up.
	Forwarding any
	Counters
}

// Carries notes the largest packet inside the tunnel that the way to the device carries, in octets.
func (s *Session) Carries(octets int) { s.carries.Store(int32(octets)) }

// Fits is the largest packet inside the tunnel, in octets: what the tunnel is for, or what the way to the device carries if that is less.
func (s *Session) Fits() int {
	if c := int(s.carries.Load()); c > 0 && c < s.MTU {
		return c
	}
	return s.MTU
}

// State is how far a session is.
type State int

// States.
const (
	Admitted State = iota // its device is being told
	Up
	Over
)

// Counters of a session. In is what the person sent, Out what went to the person. They are read and changed with the session locked.
type Counters struct {
	InPackets, InBytes, OutPackets, OutBytes uint64
	Lost                                     map[string]uint64 // by station
	LastIn, LastOut                          time.Time
}

// Lock holds the session. Packets of it wait meanwhile, and no others do.
func (s *Session) Lock() { s.mu.Lock() }

// Unlock ends that.
func (s *Session) Unlock() { s.mu.Unlock() }

// IsUp tells whether packets of it pass. The session is locked.
func (s *Session) IsUp() bool { return s.state == Up }

// IsHeld tells whether its person has not given their second factor yet. The session is locked.
func (s *Session) IsHeld() bool { return s.held }

// Hold keeps a session that is not up yet from everything but the code page.
func (s *Session) Hold() { s.held = true }

// Release ends that once a second factor was given, and tells whether it was held. It is never held again.
func (s *Session) Release(now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.held
	if s.held = false; was && s.Coded.IsZero() {
		s.Coded = now
	}
	return was
}

// Prove notes that a second factor was given, and leaves the session held until it is released.
func (s *Session) Prove(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held && s.Coded.IsZero() {
		s.Coded = now
	}
}

// Factor tells whether the session is held, and when its person gave a second factor.
func (s *Session) Factor() (held bool, coded time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.held, s.Coded
}

// Counted gives a copy of what it counted.
func (s *Session) Counted() Counters {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.Counters
	c.Lost = maps.Clone(c.Lost)
	return c
}

// Path is by what packets reach its device; nil before it is up.
func (s *Session) Path() Path {
	if p := s.path.Load(); p != nil {
		return *p
	}
	return nil
}

// Limits are those of its person, as they were told last.
func (s *Session) Limits() login.Limits {
	if l := s.limits.Load(); l != nil {
		return *l
	}
	return login.Limits{}
}

// SetLimits is told what the limits of its person are.
func (s *Session) SetLimits(l login.Limits) { s.limits.Store(&l) }

// FormatID writes a session's number as people see it.
func FormatID(id uint64) string { return fmt.Sprintf("%016x", id) }

// ParseID reads a session's number.
func ParseID(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 16, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no session: expected 16 hexadecimal digits as the list of sessions shows them", text)
	}
	return id, nil
}

// Leased is everything that is leased to the session.
func (s *Session) Leased() netset.Addrs {
	return netset.OfAddrs(s.Addresses...).Union(netset.OfPrefixes(s.Prefixes...))
}
