package tunnel

import (
	"crypto"
	"net/netip"
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
)

// Kind is one kind of tunnel that a gateway can offer.
type Kind interface {
	// Name is what the plan calls it.
	Name() string
	// Serve begins to serve; nobody is answered until ways are used.
	Serve(Host) Server
}

// Way is one tunnel of the plan, by which devices are answered.
type Way struct {
	plan.Tunnel
	Identity string // the name by which devices ask for it
	// Credentials are the gateway's, the preferred first.
	Credentials []Credential
	// Authorities are those of people's certificates, DER, for devices that show theirs only to who asks for one.
	Authorities [][]byte
	// Platforms are the kinds of devices that come by it, where every passage says its own; none: not known.
	Platforms []string
}

// Credential is a certificate of the gateway's.
type Credential struct {
	Chain [][]byte      // DER, the gateway's own first; nil: there is none
	Key   crypto.Signer // of it
	Root  []byte        // the authority at the top, DER; nil: not known
}

// Run is packets that came from a session's device one after the other, authentic. They are valid during the call, and may be altered.
type Run struct {
	Session *session.Session
	Packets []inside.Packet
}

// Host is what a server is given: the gateway. Everything may be called from anywhere.
type Host interface {
	// Begin begins a login. The conversation's steps take long.
	Begin(login.Call) login.Conversation
	// Owner tells whose key it is that somebody has shown to have: it takes long.
	Owner(login.Key) login.Outcome
	// Shared gives a key that a person and the gateway both know: it takes long.
	Shared(login.SharedKey) login.Shared
	// Back tells who it is whom this gateway remembered, and their groups now: it takes long. Without OK they must log in anew.
	Back(Remembered) login.Outcome
	// Admit asks whether somebody who logged in may come in, leases, and records it: it takes long. The session is nil with a refusal;
	// otherwise Up or Failed must follow.
	Admit(Request) (*session.Session, Grant)
	// Up lets packets pass, with those of the leased addresses that the device uses. It is false where the session is over already.
	Up(s *session.Session, path session.Path, used []netip.Addr) bool
	// Failed says that a login that was admitted came to nothing.
	Failed(*session.Session)
	// Down says that a session is over.
	Down(*session.Session, reason.Reason)
	// Arrived takes packets from devices.
	Arrived([]Run)
	// Refused says that a login failed.
	Refused(Refusal)
	// SeenAt tells where a caller really is, where datagrams come by way of a relay.
	SeenAt(netip.AddrPort) netip.AddrPort
}

// Server answers devices by tunnels of one kind. Everything may be called from anywhere, but for what Host says.
type Server interface {
	// Prepare makes ready to answer by other ways, without changing anything yet.
	Prepare([]Way) (Change, error)
	// End ends a session and tells its device; Host.Down is called before it returns.
	End(*session.Session, reason.Reason)
	// Tick is called a few times a second.
	Tick(time.Time)
	// Counters counts what was dropped without an answer, by reason.
	Counters() map[string]uint64
	// Techniques are those of the kernel's that packets on their way use, in words.
	Techniques() []string
	// LoggingIn is how many logins are under way.
	LoggingIn() int
	// Stop ends what is left; every session was ended before.
	Stop()
}

// Change is ways that were prepared. One of its methods is called, once.
type Change interface {
	Use() error // nothing changes if it fails
	Discard()
}
