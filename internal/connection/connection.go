// Package connection is a remote user's connection that stays: it logs in as the probe does, gives this machine addresses, routes and name
// servers by a TUN device, comes again by itself when it breaks, and leaves the machine as it was. How a tunnel is dialled is left to the
// kinds; what is printed to the commands.
package connection

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/tun"
	"yellowlantern/internal/tunnel/kinds"
	"yellowlantern/internal/underlay"
)

const (
	loginTime   = 30 * time.Second
	lookEvery   = 500 * time.Millisecond
	firstPause  = time.Second
	longest     = time.Minute
	liveness    = 15 * time.Second // of silence, before the gateway is asked
	patience    = 12 * time.Second // for its answer
	moveTime    = 4 * time.Second  // for the gateway to hear where this machine is now
	sleptFor    = 10 * time.Second // by which the clock that counts sleep is ahead of the ticks
	udpAgain    = 10 * time.Minute // after which a connection over TCP is dialled anew, to see whether UDP passes by now
	mtuDefault  = plan.DefaultMTU
	deviceStart = "yl-"
)

// Options are what a connection is made with.
type Options struct {
	Name  string // by which it is told from others: at most twelve letters, digits and hyphens
	Kind  string // of tunnel; empty: IKEv2
	Login dial.Login
	// Chain is what the device shows of its key now, in place of what the login says; nil: that.
	Chain func() [][]byte
	// Strict lets nothing of what goes into the tunnel leave in clear while there is none.
	Strict bool
	// CodePage is where its person gives their second factor once it is up; empty: none is asked for.
	CodePage string
	// Carry are networks behind this machine whose hosts may use the connection, under its address.
	Carry []netip.Prefix
	// Permit is what the gateway may have this host do.
	Permit Permit
	Log    *slog.Logger
}

// Connection is one.
type Connection struct {
	o       Options
	device  *tun.Device
	machine *machine
	back    any // by what it comes back without logging in anew
	session atomic.Pointer[standing]
	inbound atomic.Pointer[inbound] // nil: nothing may come yet
	refused atomic.Uint64           // packets that came and may not
	came    counter
	went    counter
	state   sync.Mutex
	told    State
}

// standing is a session that stands.
type standing struct {
	dial.Session
	given dial.Given // what is taken of what the gateway assigned
	left  []string   // what is not
	from  netip.Addr // our own address towards the gateway
	since time.Time
}

// Given is what is taken of what the gateway assigned.
func (s *standing) Given() dial.Given {
	out := s.Session.Given()
	out.Configuration = s.given.Configuration
	return out
}

// State is how a connection is.
type State struct {
	Name    string       `json:"name"`
	PID     int          `json:"pid"`
	Device  string       `json:"device"`
	Gateway string       `json:"gateway"`
	User    string       `json:"user"`
	Up      bool         `json:"up"`
	Since   time.Time    `json:"since,omitzero"`
	Trouble string       `json:"trouble,omitempty"`
	Tries   int          `json:"tries" doc:"Since it was up last."`
	Given   []netip.Addr `json:"addresses"`
	// Prefixes are this machine's whole, for what is behind it.
	Prefixes []netip.Prefix `json:"prefixes,omitempty"`
	Routes   []netip.Prefix `json:"routes"`
	Full     bool           `json:"full"`
	DNS      []netip.Addr   `json:"dns"`
	Domains  []string       `json:"domains"`
	Over     string         `json:"over,omitempty"`
	Strict   bool           `json:"strict"`
	CodePage string         `json:"code-page,omitempty"`
	Largest  int            `json:"largest-packet,omitempty" doc:"That the way to the gateway carries, inside the tunnel, in octets, where that is less than the tunnel is for."`
	Came     Count          `json:"came"`
	Went     Count          `json:"went"`
	// NotPermitted is what the gateway assigned and the kit does not permit.
	NotPermitted []string `json:"not-permitted,omitempty" doc:"Assigned by the gateway and not used: the kit does not permit it."`
	Refused      uint64   `json:"refused" doc:"Packets that came by the tunnel and were dropped: not from its routes, or not to an assigned address."`
}

// Count is packets and octets.
type Count struct {
	Packets uint64 `json:"packets"`
	Octets  uint64 `json:"octets"`
}

// Run connects, and stays until the context ends. The first login must succeed, or it gives why not; tell is told of each change.
func Run(ctx context.Context, o Options, tell func(State)) error {
	c := &Connection{o: o}
	c.told = State{Name: o.Name, PID: unix.Getpid(), Gateway: o.Login.Dial, User: o.Login.User, Strict: o.Strict, CodePage: o.CodePage}
	if err := Restore(o.Name); err != nil {
		return err
	}
	var err error
	if c.device, err = tun.Open(deviceStart+o.Name, tun.How{Plain: o.Login.Plain}); err != nil {
		return fmt.Errorf("%w: the tunnel device needs CAP_NET_ADMIN and the kernel module tun", err)
	}
	defer c.device.Close()
	if c.machine, err = newMachine(o, c.device.Name()); err != nil {
		return err
	}
	defer func() {
		if err := c.machine.restore(); err != nil {
			o.Log.Error("not everything could be set back", "error", err)
		}
	}()
	c.told.Device = c.device.Name()
	s, err := c.login(ctx)
	if err != nil {
		return err
	}
	if err := c.machine.use(s.Given(), c.gateways(ctx, s)); err != nil {
		s.Close()
		return err
	}
	guard.PacketPath("connection.device", func() { c.send() })
	c.keep(ctx, s, tell)
	return nil
}

// gateways are the addresses that lead to the gateway: what goes there stays out of the tunnel.
func (c *Connection) gateways(ctx context.Context, s *standing) []netip.Addr {
	bounded, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	all, err := dial.Addresses(bounded, c.under(), c.o.Login.Dial)
	if err == nil {
		c.machine.found = all
	}
	if at := s.Given().Gateway; at.IsValid() && !slices.Contains(c.machine.found, at) {
		return append([]netip.Addr{at}, c.machine.found...) // the device was sent on
	}
	return c.machine.found
}

// under is the network that this machine is on. Where the gateway's name cannot be asked for now, it leads where it led before.
func (c *Connection) under() underlay.Underlay { return remembering{underlay.Host(), c.machine} }

type remembering struct {
	underlay.Underlay
	m *machine
}

func (r remembering) Resolve(ctx context.Context, name string) ([]netip.Addr, error) {
	bounded, stop := context.WithTimeout(ctx, 3*time.Second)
	defer stop()
	out, err := r.m.resolve(bounded, name)
	if err != nil && len(r.m.found) > 0 {
		return r.m.found, nil
	}
	return out, err
}

// login logs in once.
func (c *Connection) login(ctx context.Context) (*standing, error) {
	k := kinds.Dialer(cmp.Or(c.o.Kind, plan.KindIKEv2))
	if k == nil {
		return nil, fmt.Errorf("this program cannot dial tunnels of kind %q: use a newer one", c.o.Kind)
	}
	bounded, stop := context.WithTimeout(ctx, loginTime)
	defer stop()
	l := c.o.Login
	l.Measure = true
	if c.o.Chain != nil {
		l.Chain = c.o.Chain()
	}
	l.Liveness, l.Patience, l.Back = liveness, patience, c.back
	s, err := k.Dial(bounded, c.under(), l, c.receive)
	if err != nil {
		return nil, err
	}
	if r, ok := s.(dial.Returner); ok {
		c.back = r.Back()
	}
	given, left, err := accept(s.Given(), c.o.Permit, onLinks(c.device.Name()), c.o.Login.Addresses)
	if err != nil {
		s.Close()
		return nil, err
	}
	if len(left) > 0 {
		c.o.Log.Warn("the gateway assigned what the kit does not permit, and it is not used; after a change of the plan have a new kit made", "not-permitted", left)
	}
	if s.Given().Changed {
		c.o.Login.Password, c.o.Login.NextPassword = l.NextPassword, ""
		c.o.Log.Warn("the password was changed: put the new one where the former one is kept")
	}
	if s.Given().Back {
		c.o.Log.Info("came back without logging in anew")
	}
	sized(s)
	out := &standing{Session: s, given: given, left: left, since: time.Now()}
	c.inbound.Store(inboundOf(given, mainPrefixes()))
	if len(c.machine.found) > 0 {
		out.from = underlay.Host().Address(c.machine.found[0])
	}
	c.session.Store(out)
	return out, nil
}

// receive hands what comes by the tunnel to the kernel.
func (c *Connection) receive(packets [][]byte) {
	in := c.inbound.Load()
	if in == nil {
		return
	}
	packets, refused := in.packets(packets)
	if refused > 0 {
		c.refused.Add(uint64(refused))
	}
	n := 0
	for _, b := range packets {
		n += len(b)
	}
	c.came.add(len(packets), n)
	c.device.WriteAll(slices.Values(packets))
}

// send puts what the kernel sends into the tunnel.
func (c *Connection) send() {
	for from := c.device.Reader(0); ; {
		batch, err := from.Read()
		if err != nil {
			return
		}
		s := c.session.Load()
		if s == nil {
			continue
		}
		for _, p := range batch {
			one := segment.Extent{Packets: 1, Octets: p.Len}
			if p.Each > 0 {
				if i, err := packet.Parse(p.Bytes()); err == nil {
					one, _ = segment.ExtentOf(p.Bytes(), i, p.Each)
				}
			}
			c.went.add(one.Packets, one.Octets)
		}
		s.SendAll(batch)
	}
}

// counter counts packets and octets.
type counter struct{ packets, octets atomic.Uint64 }

func (c *counter) add(packets, octets int) {
	c.packets.Add(uint64(packets))
	c.octets.Add(uint64(octets))
}

func (c *counter) now() Count { return Count{c.packets.Load(), c.octets.Load()} }

// keep watches over the session, and logs in again when it ended, when this machine is on another network, and after sleep.
func (c *Connection) keep(ctx context.Context, s *standing, tell func(State)) {
	c.up(s, tell)
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	last := bootTime()
	for {
		select {
		case <-ctx.Done():
			c.session.Store(nil)
			s.Close()
			return
		case <-t.C:
		}
		now := bootTime()
		slept := now-last > sleptFor
		last = now
		if c.machine.changed() { // routes of this machine are others: what is not ours stays beside ours
			if err := c.machine.routes(); err != nil {
				c.o.Log.Warn("routes", "error", err)
			}
			c.inbound.Store(inboundOf(s.Given(), mainPrefixes()))
		}
		c.fit(s)
		why := s.Ended()
		switch {
		case why != nil:
		case slept, c.moved(s):
			if why = errMoved; slept {
				why = errSlept
			}
			if c.goesOn(ctx, s, why) {
				last = bootTime()
				tell(c.now())
				continue
			}
		case s.Given().Over == "TCP" && time.Since(s.since) > udpAgain:
			why = errors.New("UDP may pass by now")
		default:
			tell(c.now())
			continue
		}
		s.Close()
		if s = c.reconnect(ctx, why, tell); s == nil {
			return
		}
		last = bootTime()
	}
}

// Why a session goes on from elsewhere, or begins anew.
var (
	errSlept = errors.New("this machine slept")
	errMoved = errors.New("this machine is on another network")
)

// goesOn keeps a session where its gateway follows it to where this machine is now: what people had open goes on.
func (c *Connection) goesOn(ctx context.Context, s *standing, why error) bool {
	m, ok := s.Session.(dial.Mover)
	if !ok {
		return false
	}
	bounded, stop := context.WithTimeout(ctx, moveTime)
	defer stop()
	if err := m.Move(bounded, c.under()); err != nil {
		c.o.Log.Info("the session does not go on", "why", why, "error", err)
		return false
	}
	if len(c.machine.found) > 0 {
		s.from = underlay.Host().Address(c.machine.found[0])
	}
	c.o.Log.Info("the session goes on", "why", why)
	return true
}

// moved tells whether this machine's own address towards the gateway is another one, and there is one at all.
func (c *Connection) moved(s *standing) bool {
	if !s.from.IsValid() || len(c.machine.found) == 0 {
		return false
	}
	now := underlay.Host().Address(c.machine.found[0])
	return now.IsValid() && now != s.from
}

// reconnect logs in until it succeeds, with longer and longer pauses; nil where the context ended.
func (c *Connection) reconnect(ctx context.Context, why error, tell func(State)) *standing {
	c.session.Store(nil)
	c.down(why, tell)
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, longest) {
		s, err := c.login(ctx)
		if err == nil {
			if err = c.machine.use(s.Given(), c.gateways(ctx, s)); err == nil {
				c.up(s, tell)
				return s
			}
			s.Close()
		}
		c.down(err, tell)
		var fault *dial.Fault
		if errors.As(err, &fault) && (fault.Code == reason.FaultRefused || fault.Code == reason.FaultCertificate) {
			pause = longest // asking more often changes nothing, and a password that is wrong locks out
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
	return nil
}

func (c *Connection) up(s *standing, tell func(State)) {
	g := s.Given()
	c.state.Lock()
	t := &c.told
	t.Up, t.Since, t.Trouble, t.Tries, t.Largest = true, s.since, "", 0, 0
	t.Given, t.Prefixes, t.DNS, t.Domains, t.Over, t.Full = g.Addresses, g.Prefixes, g.DNS, g.Domains, g.Over, g.Full
	t.Routes, t.NotPermitted = g.Routes.Prefixes(), s.left
	c.state.Unlock()
	c.fit(s)
	c.o.Log.Info("connected", "gateway", c.o.Login.Dial, "addresses", g.Addresses, "over", g.Over)
	tell(c.now())
}

// sized waits a moment until a session has found what its way carries: what is opened meanwhile would lose its first large packets.
func sized(s dial.Session) {
	by, ok := s.(dial.Measurer)
	for end := time.Now().Add(sizeWait); ok && s.Given().Over != "TCP" && by.Carries() == 0 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
}

const sizeWait = 3 * time.Second

// fit makes the machine send no larger packets than the way carries, once that is found.
func (c *Connection) fit(s *standing) {
	by, ok := s.Session.(dial.Measurer)
	if !ok || by.Carries() == 0 || by.Carries() == c.machine.fits {
		return
	}
	if err := c.machine.fit(by.Carries()); err != nil {
		c.o.Log.Warn("size of packets", "error", err)
		return
	}
	c.state.Lock()
	defer c.state.Unlock()
	if c.told.Largest = 0; by.Carries() < cmp.Or(c.o.Login.MTU, mtuDefault) {
		c.told.Largest = by.Carries()
		c.o.Log.Info("the way to the gateway carries less than the tunnel is for", "octets", by.Carries())
	}
}

func (c *Connection) down(why error, tell func(State)) {
	c.state.Lock()
	c.told.Up, c.told.Trouble = false, why.Error()
	c.told.Tries++
	c.state.Unlock()
	c.o.Log.Warn("not connected", "why", why)
	tell(c.now())
}

func (c *Connection) now() State {
	c.state.Lock()
	defer c.state.Unlock()
	out := c.told
	out.Given = slices.Clone(out.Given)
	out.Came, out.Went, out.Refused = c.came.now(), c.went.now(), c.refused.Load()
	return out
}

// bootTime is how long the machine has been on, time asleep counted (clock_gettime(2), CLOCK_BOOTTIME).
func bootTime() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}
