package session

import (
	"net/netip"

	"yellowlantern/internal/core/inside"
)

// What carries a tunnel.
const (
	OverUDP = "UDP"
	OverTCP = "TCP"
)

// Where is where a device is.
type Where struct {
	Addr   netip.AddrPort // as datagrams come from it
	Over   string         // what carries the tunnel: OverUDP, OverTCP, or what a kind has
	Behind bool           // a translation is on the way
}

// Path carries the packets of one session to its device. It may be used from anywhere, and waits for nobody. It is the one owner of the
// keys and of where the device is.
type Path interface {
	// Send seals a packet and sends it: in place where it has the room, so it is worth nothing afterwards. The buffer stays the caller's.
	Send(p inside.Packet)
	// SendAll sends several in their order, as Send does, those that are joined one by one (package segment).
	SendAll(ps []inside.Packet)
	Where() Where
	// Missing is how many packets the device sent and that did not come, where the kind can tell.
	Missing() uint64
}

// Gatherer is a path by which a packet can be sent together with packets to other devices.
type Gatherer interface {
	// Gather does as Send does, and sends it by the time that what it gives is flushed. with is what it gave for the packet before, of this
	// or another session; nil: there was none. Until it is flushed whoever has it sends nothing else by any path.
	Gather(p inside.Packet, with Gathered) Gathered
}

// Gathered is packets that are about to be sent.
type Gathered interface{ Flush() }
