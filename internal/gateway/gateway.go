// Package gateway is the running gateway: it joins the protocol machines of core to sockets, to the inside, to whoever
// keeps people's passwords, and to the journal. It is a library with ports, the same in the demo and on a host.
package gateway

import (
	"context"
	"crypto"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"
	_ "time/tzdata" // hours are in the site's zone also on a host that keeps no zones of its own

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/pool"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// People is whoever keeps users and passwords.
type People interface {
	// Judge judges a login round; a user who does not exist or is switched off is refused with the reason.
	Judge(ctx context.Context, c eap.Check, from netip.Addr) eap.Verdict
	// Groups gives a user's groups.
	Groups(ctx context.Context, user string) ([]string, error)
}

// Frame is a packet for the inside or the internet, with the way that it leaves by.
type Frame struct {
	Egress site.Egress
	Packet []byte
}

// Inside is the gateway's side away from the tunnels: a lab link, or a host's kernel. Frames are sent in batches; a
// packet is only valid during the call.
type Inside interface {
	Send(batch []Frame)
}

// Event is one line of the journal.
type Event struct {
	Time time.Time `json:"time"`
	Kind string    `json:"kind" enum:"login,refused,ended,rule,commit,trust,name,reach,record" doc:"What happened."`
	User string    `json:"user,omitempty"`
	From string    `json:"from,omitempty" doc:"Address and port that the device was seen at."`
	reason.Reason
	Words string `json:"words" doc:"The code and its parameters, in words."`
}

// Tell makes an event of now of a reason that is journalled.
func Tell(why reason.Reason, user, from string) Event {
	return Event{Time: time.Now(), Kind: reason.KindOf(why.Code), User: user, From: from, Reason: why, Words: why.Words()}
}

// Config is what a gateway is started with.
type Config struct {
	Sockets *Sockets
	Inside  Inside
	People  People
	// Journal is told of events, by one goroutine; nobody waits for it.
	Journal func(Event)
	// Admit records a login before it is let in; where that fails it is refused. nil: it is an event like others.
	Admit func(Event) error
	// Over is told of every session that ended, and why; nil: nobody.
	Over   func(s Session, why reason.Reason)
	Log    *slog.Logger
	KeyLog io.Writer // nil: keys are not logged
	// SeenAt tells where a caller really is, where datagrams come by way of a relay; nil: where they come from.
	SeenAt func(netip.AddrPort) netip.AddrPort
	// ListenTCP opens the port on which a plan offers tunnels over TCP; nil: it cannot.
	ListenTCP func(port uint16) (net.Listener, error)
}

// Certificate is a chain of certificates in DER, the gateway's first, with its key.
type Certificate struct {
	Chain [][]byte
	Key   crypto.Signer
}

// Settings is what a commit decides.
type Settings struct {
	Plan         *plan.Plan
	Gateway      string
	Certificates map[string]Certificate // by name
}

// Gateway is one running gateway. It is safe for concurrent use.
type Gateway struct {
	cfg    Config
	engine *forward.Engine

	mu       sync.Mutex // guards what follows
	model    *site.Model
	zone     *time.Location
	listener *ike.Listener
	pools    map[string]*pool.Pool
	sessions map[ike.ID]*session
	held     map[ike.ID]lease // leased, and not yet up

	streams streams
	inbound sync.Map // SPI → *association
	stop    context.CancelFunc
	done    sync.WaitGroup
	dropped dropCounters

	recording atomic.Int32 // recordings under way
	lines     faucet       // of the journal
	refusals  refusals
	persons   persons // sessions by whose they are
	outbox    outbox
	messages  chan message  // IKE, for the one goroutine that handles it
	signs     chan sign     // of life, for the same
	late      atomic.Uint64 // messages and signs that found no room
}

type lease struct {
	pool      string
	addresses []netip.Addr
	groups    []string
	passage   string
	tunnel    string
	limits    plan.Limits
	hours     *plan.Hours // when the session may stand; nil: always
}

type association struct {
	opener  *esp.Opener
	session *session
	order   int         // among the session's: a younger one takes the place of the older ones
	waiting atomic.Bool // it is sent with once something comes by it
}

// pair is the two associations of a Child SA.
type pair struct {
	opener *esp.Opener
	sealer *esp.Sealer
}

type session struct {
	id      ike.ID
	fwd     *forward.Session
	lease   lease
	suite   string
	tunnel  string
	nat     bool
	since   time.Time
	mu      sync.Mutex
	peer    ike.Peer
	order   int    // of the youngest association
	heardBy int    // of the youngest association by which something came
	pairs   []pair // of associations, the newest last; none: the device took its last one away
	toldAt  time.Time
	routes  netset.Addrs
	dns     []netip.Addr
	domains []string
	over    bool // its end is under way

	recorder atomic.Pointer[recorder] // nil: not recorded
	missed   uint64                   // of associations that are gone
}

// Start begins to answer callers.
func Start(ctx context.Context, cfg Config, set Settings) (*Gateway, error) {
	ctx, stop := context.WithCancel(ctx)
	g := &Gateway{
		cfg: cfg, pools: map[string]*pool.Pool{}, sessions: map[ike.ID]*session{}, held: map[ike.ID]lease{}, stop: stop,
		refusals: newRefusals(), persons: persons{}, outbox: outbox{queue: make(chan item, outboxSize)},
		messages: make(chan message, messageQueue), signs: make(chan sign, messageQueue),
		streams: streams{listeners: map[uint16]net.Listener{}, conns: map[netip.AddrPort]*stream{}},
	}
	if cfg.KeyLog != nil {
		cfg.Log.Warn("KEYS ARE BEING LOGGED: whoever reads that file can read all traffic")
	}
	p, err := g.prepare(set)
	if err == nil {
		defer p.discard() // of what is not used after all
		err = g.use(p)
	}
	if err != nil {
		stop()
		return nil, err
	}
	g.run(ctx)
	return g, nil
}

// prepared is a plan ready to be run.
type prepared struct {
	set    Settings
	model  *site.Model
	zone   *time.Location
	ike    ike.Settings
	ports  []uint16
	opened map[uint16]net.Listener
}

// prepare compiles a plan and opens its TCP ports, without holding up anybody. What it opened must be used or closed.
func (g *Gateway) prepare(set Settings) (*prepared, error) {
	p := &prepared{set: set, ports: portsOf(set.Plan, set.Gateway)}
	var err error
	if p.zone, err = Zone(set.Plan); err != nil {
		return nil, err
	}
	if p.model, err = site.Compile(set.Plan, set.Gateway); err != nil {
		return nil, err
	}
	p.model.In(p.zone)
	if p.ike, err = callers(p.model, set.Certificates); err != nil {
		return nil, err
	}
	p.ike.Rand, p.ike.LogKeys, p.ike.SeenAt = rand.Reader, g.cfg.KeyLog != nil, g.cfg.SeenAt
	p.opened, err = g.openStreams(p.ports)
	return p, err
}

func (p *prepared) discard() {
	for _, ln := range p.opened {
		_ = ln.Close()
	}
}

// use makes what was prepared what runs. Nothing changes if it fails. g.mu is held.
func (g *Gateway) use(p *prepared) (err error) {
	if g.listener == nil {
		if g.listener, err = ike.NewListener(p.ike); err != nil {
			return err
		}
		g.engine = forward.New(p.model)
	} else if err := g.listener.Configure(p.ike); err != nil {
		return err
	}
	g.useStreams(p.ports, p.opened)
	p.opened = nil
	g.model, g.zone = p.model, p.zone
	g.engine.Commit(p.model)
	for i := range p.set.Plan.Pools {
		x := &p.set.Plan.Pools[i]
		if known := g.pools[x.Name]; known != nil {
			known.Resize(x.Addresses(), kept(x))
		} else {
			g.pools[x.Name] = pool.New(x.Addresses(), kept(x))
		}
	}
	return nil
}

// Zone is the time zone in which a plan's hours count.
func Zone(p *plan.Plan) (*time.Location, error) {
	zone, err := time.LoadLocation(p.TimeZone) // none: UTC
	if err != nil {
		return nil, fmt.Errorf("time-zone: %w", err)
	}
	return zone, nil
}

// kept is the pool's reservations.
func kept(p *plan.Pool) map[netip.Addr]string {
	out := map[netip.Addr]string{}
	for _, r := range p.Reserved {
		out[r.Address] = r.User
	}
	return out
}

// callers is how callers are answered: one way in for each of the gateway's tunnels.
func callers(m *site.Model, certificates map[string]Certificate) (ike.Settings, error) {
	s := ike.DefaultSettings()
	s.Tunnel = ike.Tunnel{}
	for i := range m.Plan.Tunnels {
		t := &m.Plan.Tunnels[i]
		if t.Off || t.Gateway != m.Gateway.Name || t.Kind != plan.KindIKEv2 {
			continue
		}
		c := certificates[t.Certificate]
		way := ike.Tunnel{
			ID: t.Name, Name: t.IdentityOr(m.Gateway.Dial), Chain: c.Chain, Key: c.Key, PFS: t.PFS,
			Liveness: t.Liveness.Or(plan.DefaultLiveness), Patience: time.Duration(t.Patience), IKELife: time.Duration(t.Lifetimes.IKE), ESPLife: time.Duration(t.Lifetimes.ESP),
		}
		for _, name := range t.SuiteNames() {
			suite, ok := ike.SuiteNamed(name)
			if !ok {
				return s, fmt.Errorf("tunnel %s: there is no suite %q", t.Name, name)
			}
			way.Suites = append(way.Suites, suite)
		}
		if s.ID == "" {
			s.Tunnel = way
		} else {
			s.More = append(s.More, way)
		}
	}
	if s.ID == "" {
		return s, fmt.Errorf("gateway %s has no IKEv2 tunnel that is on", m.Gateway.Name)
	}
	return s, nil
}

// Commit makes another plan what runs, at once. Sessions whose passage gives them something else now are ended with the
// reason: their device must be told anew. It gives the users of ended sessions.
func (g *Gateway) Commit(set Settings) ([]string, error) {
	p, err := g.prepare(set)
	if err != nil {
		return nil, err
	}
	defer p.discard() // of what is not used after all
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.use(p); err != nil {
		return nil, err
	}
	var ended []string
	for _, s := range g.sessions {
		if why := Outdated(g.model, s.status(forward.Counters{}, "")); !why.None() {
			ended = append(ended, s.fwd.User)
			g.endSession(s, why)
		}
	}
	g.relimit()
	slices.Sort(ended)
	return ended, nil
}

// whereIs tells where a peer really is.
func (g *Gateway) whereIs(p ike.Peer) netip.AddrPort {
	if g.cfg.SeenAt != nil {
		return g.cfg.SeenAt(p.Addr)
	}
	return p.Addr
}

func (g *Gateway) seenAt(a netip.AddrPort) string { return g.whereIs(ike.Peer{Addr: a}).String() }

// Stop tells every device that its session is over, and ends.
func (g *Gateway) Stop() {
	g.mu.Lock()
	for id := range g.sessions {
		g.perform(g.listener.End(time.Now(), id, reason.Of(reason.GatewayStops, nil)))
	}
	g.mu.Unlock()
	g.stop()
	g.closeStreams()
	g.cfg.Sockets.wake()
	g.done.Wait()
}

// End ends a session.
func (g *Gateway) End(id uint64, why reason.Reason) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.sessions[ike.ID(id)] == nil {
		return errors.New("there is no such session")
	}
	g.perform(g.listener.End(time.Now(), ike.ID(id), why))
	return nil
}
