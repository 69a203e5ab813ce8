// Package ikev2 is the kind of tunnel that current systems bring: IKEv2 (RFC 7296) with ESP (RFC 4303), over UDP and TCP. It is the server
// that a gateway runs, and the device's side for trials; the protocol's machines are in core/ike and core/esp.
package ikev2

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/guard"
)

// Kind serves tunnels of kind ikev2.
type Kind struct {
	Sockets *Sockets
	Log     *slog.Logger
	KeyLog  io.Writer // nil: keys are not logged
	// Folder keeps what must outlive the process; empty: devices log in anew after it.
	Folder string
	// ListenTCP opens the port on which a plan offers tunnels over TCP; nil: it cannot.
	ListenTCP func(port uint16) (net.Listener, error)
}

// Name is what the plan calls it.
func (Kind) Name() string { return plan.KindIKEv2 }

const (
	// messageQueue is how many IKE messages wait to be handled; more are lost, as on any link, and sent again by who sent them.
	messageQueue = 1024
	heardMost    = 2 * time.Second // how often the protocol machine is told that ESP arrives
	// workQueue is how many key exchanges and signatures wait for a worker: one for each login that may be under way.
	workQueue = 4096
)

type server struct {
	Kind
	host tunnel.Host

	mu       sync.Mutex // guards what follows
	machine  *ike.Listener
	links    map[ike.ID]*link
	of       map[*session.Session]*link
	admitted map[ike.ID]*session.Session // and not up yet

	renewed time.Time // when secrets were looked at last
	worn    time.Time // when it was looked at how far keys are used up
	keeper  *keeper
	hints   atomic.Int32 // of ESP that belongs to no session, since the last tick

	inbound  associations
	early    early // what came by associations that are not installed yet
	dropped  dropCounters
	late     atomic.Uint64 // messages and signs that found no room
	streams  streams
	messages chan message  // IKE, for the one goroutine that handles it
	signs    chan sign     // of life, for the same
	work     chan ike.Work // for the workers
	stop     context.CancelFunc
	done     guard.Group
}

// dropCounters count datagrams that are dropped without an answer.
type dropCounters struct {
	unknownSPI, replayed, forged, short, elsewhere, unproved atomic.Uint64
}

// Serve begins to serve.
func (k Kind) Serve(host tunnel.Host) tunnel.Server {
	ctx, stop := context.WithCancel(context.Background())
	s := &server{
		Kind: k, host: host, links: map[ike.ID]*link{}, of: map[*session.Session]*link{}, admitted: map[ike.ID]*session.Session{},
		streams:  streams{listeners: map[uint16]net.Listener{}, conns: map[netip.AddrPort]*stream{}},
		messages: make(chan message, messageQueue), signs: make(chan sign, messageQueue), work: make(chan ike.Work, workQueue), stop: stop,
	}
	var err error
	if s.keeper, err = openKeeper(k.Folder); err != nil {
		k.Log.Warn("what devices come back by is made anew: they log in", "error", err)
	}
	if k.KeyLog != nil {
		k.Log.Warn("KEYS ARE BEING LOGGED: whoever reads that file can read all traffic")
	}
	s.Sockets.rearm()
	s.done.Keep("ikev2.messages", func() { s.converse(ctx) })
	for range max(1, runtime.GOMAXPROCS(0)) {
		s.done.Keep("ikev2.work", func() { s.labour(ctx) })
	}
	s.done.Keep("ikev2.socket500", func() {
		_ = s.Sockets.ike.read(func(batch []datagram) {
			for _, m := range batch {
				s.handleIKE(m.peer(false), m.data)
			}
		})
	})
	for _, one := range s.Sockets.natt {
		s.done.PacketPath("ikev2.socket4500", func() { _ = one.read(func(batch []datagram) { s.handleNATT(batch) }) })
	}
	return s
}

// change is ways that were prepared.
type change struct {
	s      *server
	ike    ike.Settings
	ports  []uint16
	opened map[uint16]net.Listener
	none   bool
}

// Prepare reads how callers are to be answered, and opens TCP ports that are not open yet.
func (s *server) Prepare(ways []tunnel.Way) (tunnel.Change, error) {
	c := &change{s: s, ports: portsOf(ways), none: len(ways) == 0}
	var err error
	if !c.none {
		if c.ike, err = callers(ways, s.KeyLog != nil); err != nil {
			return nil, err
		}
		c.ike.Rand, c.ike.LogKeys, c.ike.SeenAt = rand.Reader, s.KeyLog != nil, s.host.SeenAt
		c.ike.Secrets = s.secrets(time.Now())
	}
	c.opened, err = s.openStreams(c.ports)
	return c, err
}

// Discard closes what was opened.
func (c *change) Discard() {
	for _, ln := range c.opened {
		_ = ln.Close()
	}
}

// Use answers by the ways from now on. Where there are none, nobody is answered any more; sessions are ended by the gateway.
func (c *change) Use() (err error) {
	s := c.s
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case c.none:
		s.machine = nil
	case s.machine == nil:
		s.machine, err = ike.NewListener(c.ike)
	default:
		err = s.machine.Configure(c.ike)
	}
	if err != nil {
		c.Discard()
		return err
	}
	s.useStreams(c.ports, c.opened)
	return nil
}

// proofs are the ways in which people prove who they are, by the plan's words; the others are by password.
var proofs = map[string]ike.Proof{
	plan.LoginCertificate: ike.ByCertificate, plan.LoginPublicKey: ike.ByPublicKey, plan.LoginSharedKey: ike.BySharedKey, plan.LoginBoth: ike.ByBoth,
}

// mixings are the ways of mixing shared keys in, by the plan's words; without one, none is.
var mixings = map[string]ike.Mixing{plan.MixedInAccept: ike.MixesOffered, plan.MixedInDemand: ike.MixesAlways}

// callers is how callers are answered: one way in for each tunnel. logged tells that keys are logged, for an analyser.
func callers(ways []tunnel.Way, logged bool) (ike.Settings, error) {
	s := ike.DefaultSettings()
	s.Tunnel = ike.Tunnel{}
	for _, w := range ways {
		own := w.IKEv2()
		way := ike.Tunnel{
			ID: w.Name, Name: w.Identity, PFS: own.PFS, Liveness: own.Liveness.Or(plan.DefaultLiveness),
			Patience: time.Duration(own.Patience), IKELife: time.Duration(own.Lifetimes.IKE), ESPLife: time.Duration(own.Lifetimes.ESP),
			SendTo: own.SendTo,
			Volume: esp.Volume{Packets: uint64(own.Lifetimes.ESPPackets), Octets: uint64(own.Lifetimes.ESPMegabytes) * 1e6},
		}
		for i, c := range w.Credentials {
			if i == 0 {
				way.Credential = ike.Credential(c)
			} else {
				way.Second = ike.Credential(c)
			}
		}
		way.Known = len(w.Platforms) > 0 && !slices.ContainsFunc(w.Platforms, func(p string) bool { return !takes(p, way.Credential) })
		var err error
		if way.Algorithms, err = ike.PolicyOf(own.Set()); err != nil {
			return s, fmt.Errorf("tunnel %s: %w", w.Name, err)
		}
		if a := own.Algorithms; a != nil && a.Demand {
			way.Algorithms = way.Algorithms.Demanding()
		}
		way.Proof, way.Mixing, way.SHA1 = proofs[w.Login], mixings[own.MixedIn], own.SHA1
		for _, der := range w.Authorities {
			if a, err := x509.ParseCertificate(der); err == nil {
				way.Authorities = append(way.Authorities, a)
			}
		}
		if logged {
			way.Algorithms = way.Algorithms.Legible()
		}
		if s.ID == "" {
			s.Tunnel = way
		} else {
			s.More = append(s.More, way)
		}
	}
	return s, nil
}

// secrets is by what devices learn of this gateway's end, and come back.
func (s *server) secrets(now time.Time) ike.Secrets {
	out, err := s.keeper.secrets(now)
	if err != nil {
		s.Log.Warn("what devices come back by is not kept: after a start they log in", "error", err)
	}
	return out
}

// End ends a session; its device is told.
func (s *server) End(x *session.Session, why reason.Reason) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.of[x]
	if l == nil {
		return
	}
	if s.machine == nil {
		s.down(l, why)
		return
	}
	s.perform(s.machine.End(time.Now(), l.id, why))
}

// Tick does what is due.
func (s *server) Tick(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.machine == nil {
		return
	}
	s.hints.Store(0)
	if now.Sub(s.renewed) > time.Minute {
		s.renewed = now
		s.machine.Keep(s.secrets(now))
	}
	s.perform(s.machine.Tick(now))
	if now.Sub(s.worn) < time.Second {
		return
	}
	s.worn = now
	for _, l := range s.links {
		if spi, wear := l.worn(); wear > esp.Fresh {
			s.machine.Worn(l.id, spi, wear)
		}
	}
}

// LoggingIn is how many logins are under way.
func (s *server) LoggingIn() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.machine == nil {
		return 0
	}
	return s.machine.HalfOpen()
}

// Counters counts what was dropped.
func (s *server) Counters() map[string]uint64 {
	var c ike.Counters
	s.mu.Lock()
	if s.machine != nil {
		c = s.machine.Counters
	}
	s.mu.Unlock()
	return map[string]uint64{
		"malformed": c.Malformed, "out of state": c.OutOfState, "sent again": c.Replayed, "does not decrypt": c.Undecryptable,
		"too many logins": c.Overload, "asked for a cookie": c.Cookies, "ticket does not count": c.Tickets,
		"ESP of no session": s.dropped.unknownSPI.Load(), "ESP replayed": s.dropped.replayed.Load(),
		"too many at once": s.late.Load(), "from where the device may not be": s.dropped.elsewhere.Load(), "ESP forged": s.dropped.forged.Load(), "too short": s.dropped.short.Load(),
		"to where the device is not shown to be": s.dropped.unproved.Load(), "not read in time": overflown(s.Sockets.conns()...),
	}
}

// Stop ends what is left.
func (s *server) Stop() {
	s.stop()
	s.closeStreams()
	s.Sockets.wake()
	s.done.Wait()
}

// portsOf lists the TCP ports that tunnels want.
func portsOf(ways []tunnel.Way) []uint16 {
	ports := map[uint16]bool{}
	for _, w := range ways {
		if port := w.IKEv2().TCPPort; port > 0 {
			ports[uint16(port)] = true
		}
	}
	return slices.Sorted(maps.Keys(ports))
}

// takes tells whether devices of a kind surely take a credential.
func takes(platform string, c ike.Credential) bool {
	p, ok := devices.Named(platform)
	if !ok || len(c.Chain) == 0 {
		return false
	}
	leaf, err := x509.ParseCertificate(c.Chain[0])
	return err == nil && slices.Contains(p.Takes, cert.KindOf(leaf))
}
