// Package dial is what a device does by any kind of tunnel: log in over the network that it is on, be given addresses, send and take
// packets.
// Each kind's package has its own.
package dial

import (
	"context"
	"crypto"
	"crypto/x509"
	"io"
	"net/netip"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/underlay"
)

// Login is what a person needs to connect.
type Login struct {
	Dial     string // the name or address that leads to the gateway
	Identity string // what the gateway calls itself, by which a tunnel is asked for
	User     string
	Password string
	// NextPassword is chosen where the gateway wants another in place of Password; empty: the login ends there.
	NextPassword string
	// Key is what the device proves itself with in place of user and password, with certificates for it, DER, its own first; none: the
	// gateway knows the key itself.
	Key   crypto.Signer
	Chain [][]byte
	Both  bool // the key is the device's alone, and user and password follow
	// InEAP is that the key's certificate is shown inside a method (EAP-TLS), in place of a password.
	InEAP bool
	// SharedKey is by what device and gateway prove themselves to each other in place of all that; nil: they do not.
	SharedKey  []byte
	MixedIn    *MixedIn // goes into the keys for traffic; nil: nothing does
	Device     string   // a name of this device's own; empty: none, and nothing of an older session ends
	Roots      *x509.CertPool
	Algorithms algorithm.Set // that are offered
	KeyLog     io.Writer     // nil: keys are not logged
	MTU        int           // of the tunnel, inside, in octets; 0: what devices assume
	// Keepalive is how often a translation on the way is kept open.
	Keepalive time.Duration
	// Liveness is after how long a silence the gateway is asked whether it is still there, Patience for how long before it counts as
	// gone; 0: it is not asked.
	Liveness, Patience time.Duration
	// Addresses is how many of each family are asked for; 0: one.
	Addresses int
	// Ports are in place of the kind's own, by the names that it has for them; none: its own.
	Ports map[string]uint16
	// TCPPort is where the gateway also answers over TCP; 0: nowhere. It is used where UDP stays without an answer.
	TCPPort uint16
	// Measure has the size of what the way carries searched for, at the beginning and after each move (Measurer).
	Measure bool
	// Plain does without what the kernel offers for joined packets.
	Plain bool
	// Back is by what this device comes back without logging in anew, of an earlier session (Returner); nil: it logs in. Where it
	// counts no more the device logs in all the same.
	Back any
}

// MixedIn is a key that a device shares with its gateway beside what it logs in with.
type MixedIn struct {
	ID     string // what it is called
	Secret []byte
	Demand bool // rather no session than one without it
}

// Given is what the gateway gave.
type Given struct {
	tunnel.Configuration
	Algorithms string
	Over       string     // what carries the tunnel
	Behind     bool       // a translation is on the way
	Back       bool       // the device came back without logging in anew
	Changed    bool       // the next password was chosen, and counts now
	Gateway    netip.Addr // that the device is at: another than was dialled where it was sent on
}

// Session is a standing one. Everything may be called from anywhere.
type Session interface {
	Given() Given
	// Send puts a packet into the tunnel; it stays the caller's.
	Send(packet []byte)
	// SendAll puts several into it in their order, some of which may be joined.
	SendAll(packets []inside.Packet)
	// Ended tells why it is over; nil while it stands.
	Ended() error
	// Close tells the gateway that it is over. A second call does nothing.
	Close()
}

// Mover is a session that can go on from another network than the one that it began on.
type Mover interface {
	// Move goes on from where the device is now. An error says that it cannot: the device logs in anew then.
	Move(ctx context.Context, u underlay.Underlay) error
}

// Measurer is a session that finds out what its way carries.
type Measurer interface {
	// Carries is the largest packet inside the tunnel that is not lost on the way, in octets; 0: not known yet, or as much as the tunnel
	// is for.
	Carries() int
}

// Returner is a session after which its device can come back without logging in anew.
type Returner interface {
	// Back is by what; nil: it cannot. It is as secret as a password.
	Back() any
}

// Kind dials tunnels of one kind.
type Kind interface {
	// Dial logs in; the context bounds that. receive is called with packets that come, which are valid during the call and may be
	// altered. What keeps a device out is a Fault.
	Dial(ctx context.Context, u underlay.Underlay, l Login, receive func(packets [][]byte)) (Session, error)
}

// Fault is why a login failed: a code for whoever decides by it, and what happened.
type Fault struct {
	Code reason.Code
	Err  error
}

func (f *Fault) Error() string { return f.Err.Error() }
func (f *Fault) Unwrap() error { return f.Err }

// Addresses looks up where a name leads from the network that the device is on.
func Addresses(ctx context.Context, u underlay.Underlay, name string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{a}, nil
	}
	return u.Resolve(ctx, name)
}
