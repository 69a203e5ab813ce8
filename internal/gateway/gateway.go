// Package gateway is the running gateway: it joins the protocol machines of core to sockets, to the inside, to whoever
// keeps people's passwords, and to the journal. It is a library with ports, the same in the demo and on a host.
package gateway

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"
	_ "time/tzdata" // hours are in the site's zone also on a host that keeps no zones of its own

	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/pool"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/guard"
)

// People is whoever knows the people.
type People interface {
	// Begin begins the login of somebody who calls.
	Begin(login.Call) login.Conversation
	// Standing is who a user is now, by name.
	Standing(ctx context.Context, user string) (login.Standing, error)
	// Owner tells whose key it is that somebody has shown to have.
	Owner(ctx context.Context, shown login.Key) login.Outcome
	// Shared gives a key that a person and the gateway both know.
	Shared(ctx context.Context, ask login.SharedKey) login.Shared
	// Again is who a user is now who logged in earlier, if what they proved themselves with then is still what it was;
	// login.ErrStamp if not.
	Again(ctx context.Context, user, stamp string) (login.Standing, error)
	// Code judges a second factor, and remembers the device that it came by. Without OK the reason says whether it may be tried again.
	Code(context.Context, login.Code) login.Outcome
	// Coded tells when one was given last by a device; the zero time: never, or not known.
	Coded(context.Context, login.Coded) time.Time
}

// ErrLater is that of People and Config.Admit where whoever decides does not answer: the login is left to be tried again.
var ErrLater = errors.New("whoever decides who may come in does not answer")

// ErrNotReached is where a gateway in another process does not answer.
var ErrNotReached = errors.New("the gateway does not answer")

// Frames are packets for the inside or the internet, with the way that they leave by.
type Frames = forward.Frames

// Inside is the gateway's side away from the tunnels: a lab link, or a host's kernel. It can be used from anywhere.
type Inside interface {
	// Apply makes it as it is wanted, and tells how it is.
	Apply(inside.Desired) inside.Observed
	// Observed tells how it is now.
	Observed() inside.Observed
	// Answer lets the gateway answer, or no longer, for a person's address on a network that it is attached to.
	Answer(addr netip.Addr, on bool)
	// Send sends frames in a batch. A packet is only valid during the call; what is free around it may be written over.
	Send(batch []Frames)
}

// Prober is an inside that can look whether somebody else has an address on a network that it is attached to.
type Prober interface {
	// InUse looks, and gives those of the addresses that somebody has, with who it is on the link. It takes a moment.
	InUse(addrs []netip.Addr) map[netip.Addr]string
}

// Kernel is an inside where a kernel routes and translates (docs/semantics.md, "Where it is enforced").
type Kernel interface {
	Inside
	// Refuses tells why the machine does not fit what is wanted, before anything is changed.
	Refuses(inside.Desired) error
	// Forget makes the kernel forget flows, with their translations. It returns when that is done.
	Forget([]inside.Flow)
	// Lookup asks where the kernel would send a packet; false where no plan runs.
	Lookup(dst netip.Addr) (inside.Looked, bool)
	// Preview tells what would be made of the machine, and makes nothing.
	Preview(inside.Desired) inside.Preview
	// Leaves tells the source with which a flow leaves the machine.
	Leaves(inside.Flow) (netip.AddrPort, bool)
	// Techniques are those that packets from and to the kernel use, in words.
	Techniques() []string
}

// Event is one line of the journal.
type Event struct {
	Time    time.Time `json:"time"`
	Kind    string    `json:"kind" enum:"login,refused,ended,rule,commit,trust,name,reach,record,machine,equipment,change" doc:"What happened."`
	Gateway string    `json:"gateway,omitempty" doc:"Where it happened."`
	User    string    `json:"user,omitempty"`
	From    string    `json:"from,omitempty" doc:"Address and port that the device was seen at."`
	reason.Reason
	Words string `json:"words" doc:"The code and its parameters, in words."`
}

// Tell makes an event of now of a reason that is journalled.
func Tell(why reason.Reason, user, from string) Event {
	return Event{Time: time.Now(), Kind: reason.KindOf(why.Code), User: user, From: from, Reason: why, Words: why.Words()}
}

// Config is what a gateway is started with.
type Config struct {
	Kinds  []tunnel.Kind // of tunnels that it can offer
	Inside Inside
	People People
	// Journal is told of events, by one goroutine; nobody waits for it.
	Journal func(Event)
	// Admit records a login before it is let in; where that fails it is refused. nil: it is an event like others.
	Admit func(Event) error
	// Over is told of every session that ended, and why; nil: nobody.
	Over func(s Session, why reason.Reason)
	Log  *slog.Logger
	// Page serves the code page; nil: it is not served.
	Page func(Page) (PageServer, error)
	// SeenAt tells where a caller really is, where datagrams come by way of a relay; nil: where they come from.
	SeenAt func(netip.AddrPort) netip.AddrPort
}

// Certificate is a chain of certificates in DER, the gateway's first, with its key.
type Certificate struct {
	Chain [][]byte
	Key   crypto.Signer
	Root  []byte // the authority at the top, DER; nil: not known
}

// Settings is what a commit decides.
type Settings struct {
	Revision     int // that they are of
	Plan         *plan.Plan
	Gateway      string
	Certificates map[string]Certificate // by name
	// Authorities are those of people's certificates, DER.
	Authorities [][]byte
	// Again says that it ran before: what the machine does not have yet may still come.
	Again bool
}

// Gateway is one running gateway. It is safe for concurrent use.
//
// Its lock is taken inside those of the servers of tunnels, and never held while one of them is called.
type Gateway struct {
	cfg      Config
	name     string
	engine   *forward.Engine
	servers  map[string]tunnel.Server // by kind
	sessions session.Table
	revision atomic.Int64 // that runs

	mu       sync.Mutex // guards what follows
	model    *site.Model
	zone     *time.Location
	pools    map[string]*pool.Pool
	refusals refusals

	commits   sync.Mutex // one after the other
	stop      context.CancelFunc
	done      guard.Group
	recorders sync.Map     // by session: *recorder
	recording atomic.Int32 // recordings under way
	lines     faucet       // of the journal
	outbox    outbox
	page      page
	keys      keyGuard
}

// Start begins to answer callers.
func Start(ctx context.Context, cfg Config, set Settings) (*Gateway, error) {
	ctx, stop := context.WithCancel(ctx)
	g := &Gateway{
		cfg: cfg, name: set.Gateway, servers: map[string]tunnel.Server{}, pools: map[string]*pool.Pool{}, stop: stop,
		refusals: newRefusals(), outbox: outbox{queue: make(chan item, outboxSize)},
	}
	g.engine = forward.New(nil, &g.sessions)
	if k, ok := cfg.Inside.(Kernel); ok {
		g.engine.ByKernel, g.engine.Forgotten = true, k.Forget
	}
	for _, k := range cfg.Kinds {
		g.servers[k.Name()] = k.Serve(host{g, k.Name()})
	}
	p, err := g.prepare(set)
	if err == nil {
		err = g.use(p)
	}
	if err != nil {
		stop()
		g.stopServers()
		return nil, err
	}
	g.done.Keep("gateway.events", func() { g.write(ctx) })
	g.done.Keep("gateway.tick", func() { g.tick(ctx) })
	return g, nil
}

// prepared is a plan ready to be run.
type prepared struct {
	set     Settings
	model   *site.Model
	zone    *time.Location
	changes map[string]tunnel.Change
	page    *openPage
}

// prepare compiles a plan and makes the servers ready for it, without holding up anybody. What was prepared must be used or discarded.
func (g *Gateway) prepare(set Settings) (*prepared, error) {
	p := &prepared{set: set, changes: map[string]tunnel.Change{}}
	var err error
	if p.zone, err = Zone(set.Plan); err != nil {
		return nil, err
	}
	if p.model, err = site.Compile(set.Plan, set.Gateway); err != nil {
		return nil, err
	}
	p.model.In(p.zone)
	if k, ok := g.cfg.Inside.(Kernel); ok && !set.Again {
		if err := k.Refuses(p.model.Wanted()); err != nil {
			return nil, fmt.Errorf("this machine does not fit the plan: %w", err)
		}
	}
	ways, err := g.ways(p.model, set)
	if err != nil {
		return nil, err
	}
	if p.page, err = g.preparePage(set, p.model); err != nil {
		return nil, err
	}
	for kind, s := range g.servers {
		if p.changes[kind], err = s.Prepare(ways[kind]); err != nil {
			delete(p.changes, kind)
			p.discard()
			return nil, err
		}
	}
	return p, nil
}

func (p *prepared) discard() {
	p.page.close()
	for _, c := range p.changes {
		c.Discard()
	}
}

// ways are the tunnels that the gateway offers, by kind.
func (g *Gateway) ways(m *site.Model, set Settings) (map[string][]tunnel.Way, error) {
	out := map[string][]tunnel.Way{}
	for _, t := range m.Plan.Tunnels {
		if t.Off || t.Gateway != m.Gateway.Name || g.servers[t.Kind] == nil {
			continue
		}
		way := tunnel.Way{
			Tunnel: t, Identity: t.IdentityOr(m.Gateway.Dial), Authorities: slices.Clone(set.Authorities), Platforms: platformsBy(m, t.Name),
		}
		for _, name := range t.Authorities {
			if a := m.Names.Authorities[name]; a != nil {
				read, err := foreign.Read(*a)
				if err != nil {
					return nil, fmt.Errorf("authority %s: %w", name, err)
				}
				for _, c := range read.Certificates {
					way.Authorities = append(way.Authorities, c.Raw)
				}
			}
		}
		for _, name := range t.Certificates() {
			c := set.Certificates[name]
			way.Credentials = append(way.Credentials, tunnel.Credential{Chain: c.Chain, Key: c.Key, Root: c.Root})
		}
		out[t.Kind] = append(out[t.Kind], way)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("gateway %s has no tunnel that is on, of a kind that is carried out here", m.Gateway.Name)
	}
	return out, nil
}

// platformsBy are the kinds of devices that come by a tunnel; none where some passage does not say its own.
func platformsBy(m *site.Model, name string) (out []string) {
	for _, p := range m.Plan.Passages {
		switch {
		case p.Off || !slices.Contains(p.Tunnels, name):
		case len(p.Platforms) == 0:
			return nil
		default:
			out = append(out, p.Platforms...)
		}
	}
	return out
}

// use makes what was prepared what runs. Nothing changes if it fails.
func (g *Gateway) use(p *prepared) error {
	for _, s := range g.sessions.All() { // so that no packet waits for it
		p.model.Class(s.Groups).Ready()
	}
	kinds := slices.Sorted(maps.Keys(p.changes))
	for i, kind := range kinds {
		if err := p.changes[kind].Use(); err != nil {
			for _, rest := range kinds[i+1:] {
				p.changes[rest].Discard()
			}
			p.page.close()
			return err
		}
	}
	g.applyInside(p.model)
	g.page.use(p.page)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.model, g.zone = p.model, p.zone
	g.revision.Store(int64(p.set.Revision))
	g.engine.Commit(p.model)
	for i := range p.set.Plan.Pools {
		x := &p.set.Plan.Pools[i]
		if known := g.pools[x.Name]; known != nil {
			known.Resize(x.Addresses(), kept(x), x.PrefixEach)
		} else {
			g.pools[x.Name] = pool.New(x.Addresses(), kept(x), x.PrefixEach)
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

// Commit makes another plan what runs, at once. Sessions whose passage gives them something else now are ended with the
// reason: their device must be told anew. It gives the users of ended sessions.
func (g *Gateway) Commit(set Settings) ([]string, error) {
	g.commits.Lock()
	defer g.commits.Unlock()
	p, err := g.prepare(set)
	if err != nil {
		return nil, err
	}
	if err := g.use(p); err != nil {
		return nil, err
	}
	var ended []string
	for _, s := range g.sessions.All() {
		if why := Outdated(p.model, g.status(s)); !why.None() && g.end(s, why) {
			ended = append(ended, s.User)
		}
	}
	slices.Sort(ended)
	return ended, nil
}

// tick does what is due.
func (g *Gateway) tick(ctx context.Context) {
	t := time.NewTicker(tickEvery)
	defer t.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case now := <-t.C:
			for _, s := range g.servers {
				s.Tick(now)
			}
			if n%4 == 0 {
				g.enforce(g.sessions.All(), now)
				g.mu.Lock()
				g.tellRefusals(now)
				g.mu.Unlock()
			}
			if n%40 == 0 {
				g.engine.Tick(now)
			}
		}
	}
}

const tickEvery = 250 * time.Millisecond

// Stop tells every device that its session is over, and ends.
func (g *Gateway) Stop() {
	for _, s := range g.sessions.All() {
		g.end(s, reason.Of(reason.GatewayStops, nil))
	}
	g.stopServers()
	g.page.use(nil)
	g.stop()
	g.done.Wait()
}

func (g *Gateway) stopServers() {
	for _, s := range g.servers {
		s.Stop()
	}
}

// End ends a session.
func (g *Gateway) End(id uint64, why reason.Reason) error {
	s := g.sessions.Of(id)
	if s == nil || !g.end(s, why) {
		return errors.New("there is no such session")
	}
	return nil
}

// end ends a session, and tells whether it was not over yet.
func (g *Gateway) end(s *session.Session, why reason.Reason) bool {
	if g.sessions.Of(s.ID) != s {
		return false
	}
	if server := g.servers[s.Kind]; server != nil && s.Path() != nil {
		server.End(s, why)
	}
	g.over(s, why) // where it is not up yet, or its server does not know it
	return true
}
