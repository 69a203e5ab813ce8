// Package tunnel says what any kind of tunnel gives and wants, in words that belong to no kind: who asks to be let in, what they are
// granted, what a server of a kind does and what it is given. How a kind speaks on the wire is left to its package.
package tunnel

import (
	"net/netip"
	"time"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// Request is somebody who has logged in, and asks to be let in.
type Request struct {
	User       string
	Groups     []string
	Limits     login.Limits
	Tunnel     string // the plan's name of it
	Algorithms string // that were agreed on
	From       netip.AddrPort
	Device     string // what the device calls itself: nobody is admitted by it
	Alone      bool   // it says that it has no other session: what is left of an older one on it ends
	// SafeLogin and SafeTraffic are that what was recorded of either cannot be read later, with a quantum computer.
	SafeLogin, SafeTraffic bool
	SharedKeys             []string // IDs of keys that they share with the gateway, and that went in
	Key                    []byte   // the public key that they proved themselves with, DER; nil: something else
	// Want4 and Want6 are how many addresses of each family the device asks for.
	Want4, Want6 int
	// Stamp stands for what they logged in with; Back is what was remembered of them, where they came back by it instead.
	Stamp string
	Back  Remembered
	Coded bool // their second factor was given with the login
	// ProvedBy names the key and certificate that they proved themselves with, for the record; empty: something else.
	ProvedBy string
}

// Remembered is what a gateway wants to be shown of somebody who comes back without logging in anew: nobody else reads it.
type Remembered []byte

// Configuration is what a device is given.
type Configuration struct {
	Addresses []netip.Addr
	Prefixes  []netip.Prefix // of IPv6, whole, each with one of the addresses in it
	DNS       []netip.Addr
	Domains   []string
	Routes    netset.Addrs // what goes into the tunnel
	Full      bool         // everything goes into the tunnel
}

// Grant is the answer to a Request.
type Grant struct {
	Configuration
	// OnePlace is that the session ends when its device turns up elsewhere; Patience for how long it may stay without an answer, 0: as
	// the tunnel says.
	OnePlace bool
	Patience time.Duration
	// Remember is by what the device may come back without logging in anew, until Until; nil: it may not.
	Remember  Remembered
	Until     time.Time
	Refusal   reason.Reason // why not; none: they may
	Exhausted bool          // with Refusal: there is no address left, rather than no permission
	Later     bool          // with Refusal: nobody decides at the moment. The device is told nothing, and tries again
}

// Refusal is a login that failed, for the journal.
type Refusal struct {
	From   netip.AddrPort
	User   string // that the login was about; empty: not known
	Known  bool   // it is about a person who exists; otherwise a stranger, of whom there may be any number
	Reason reason.Reason
}
