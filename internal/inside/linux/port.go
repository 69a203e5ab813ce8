// Package linux is the inside of a gateway that runs on a Linux machine: packets go to the kernel and come from it by a TUN device, and
// the kernel routes and translates them. What it does to the machine is one device, routes with a protocol number of our own, one table of
// rules, and, where the plan lets it, settings; an orderly stop takes all of it away again, and whoever starts after a crash finds what was
// left. What is to be there is worked out by package kernel; who may reach what is not looked at here.
package linux

import (
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/ti-mo/conntrack"
	"github.com/vishvananda/netlink"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/tun"
)

// Name is what the port is called.
const Name = "linux"

// Device is the name of the TUN device, where no other is given.
const Device = "yl0"

// mostQueues bounds how many queues the device has: what is kept for each is some 800 KB.
const mostQueues = 32

// Config is what a port is opened with.
type Config struct {
	Device string // name of the TUN device
	Folder string // where it remembers what settings were before
	Log    *slog.Logger
	// Tell is told of what somebody changed on the machine.
	Tell func(reason.Reason)
	// Plain does without joined packets from and to the kernel.
	Plain bool
}

// Port is the machine as a gateway's inside.
type Port struct {
	device string
	plain  bool
	queues int
	log    *slog.Logger
	tell   func(reason.Reason)
	was    *remembered

	tun     atomic.Pointer[tun.Device]
	deliver atomic.Pointer[Deliver]
	own     atomic.Pointer[netset.Addrs]
	moved   atomic.Pointer[time.Time] // when a link or an address of somebody else's changed last
	ours    sync.Map                  // the indices that our device has and had; the kernel uses none twice
	done    chan struct{}
	wait    guard.Group

	mu       sync.Mutex // of what follows, and of changes of the machine
	want     *inside.Desired
	table    string // fingerprint of the table as we made it
	made     string // the table's own text
	observed inside.Observed
	drift    drift
	down     map[string]reason.Reason // links that are down, each as it was told
	answers  map[netip.Addr]bool
	lost     map[string]uint64 // packets, by chain, that tables before this one counted

	tracking  sync.Mutex
	conntrack *conntrack.Conn
}

// Deliver takes what comes from the machine's networks, and which addresses are the machine's own.
type Deliver struct {
	Packets func(batch []inside.Packet, outside bool)
	Own     func(netset.Addrs)
}

// Open makes the device. Nothing else of the machine is changed before a plan is applied.
func Open(cfg Config) (*Port, error) {
	p := &Port{
		device: cfg.Device, plain: cfg.Plain, queues: min(runtime.GOMAXPROCS(0), runtime.NumCPU(), mostQueues), log: cfg.Log, tell: cfg.Tell, done: make(chan struct{}), answers: map[netip.Addr]bool{}, lost: map[string]uint64{},
		observed: inside.Observed{Port: Name, Problems: []inside.Problem{inside.Told(reason.Of(reason.NothingRunsHere, nil))}},
	}
	var err error
	if p.was, err = remember(cfg.Folder); err != nil {
		return nil, err
	}
	if err := able(); err != nil {
		return nil, err
	}
	if err := p.makeDevice(); err != nil {
		return nil, err
	}
	p.was.PID = os.Getpid()
	if err := p.was.keep(); err != nil {
		return nil, err
	}
	for queue := range p.queues {
		p.wait.PacketPath("linux.queue", func() { p.receive(queue) })
	}
	p.wait.Keep("linux.watch", p.watch)
	return p, nil
}

// Plug says who takes what comes.
func (p *Port) Plug(d Deliver) {
	p.deliver.Store(&d)
	if own := p.own.Load(); own != nil {
		d.Own(*own)
	}
}

func (p *Port) makeDevice() error {
	t, err := tun.Open(p.device, tun.How{Plain: p.plain, Queues: p.queues})
	if err != nil {
		return fmt.Errorf("%w: the tunnel device needs CAP_NET_ADMIN and the kernel module tun, and no other device of the name %s (yl host check tells more)",
			err, p.device)
	}
	p.tun.Store(t)
	return nil
}

// receive takes packets of one queue from the kernel. A device that somebody took away is made again by whoever watches.
func (p *Port) receive(queue int) {
	var of *tun.Device
	var from *tun.Reader
	for {
		t := p.tun.Load()
		if of != t {
			of, from = t, t.Reader(queue)
		}
		batch, err := from.Read()
		if len(batch) > 0 {
			if d := p.deliver.Load(); d != nil {
				d.Packets(batch, false)
			}
			continue
		}
		select {
		case <-p.done:
			return
		case <-time.After(100 * time.Millisecond):
		}
		if err != nil && p.tun.Load() == t {
			p.log.Debug("tunnel device", "error", err)
		}
	}
}

// Send hands what people sent to the kernel.
func (p *Port) Send(batch []gateway.Frames) {
	p.tun.Load().WriteAll(func(yield func([]byte) bool) {
		for _, f := range batch {
			for i := range f.Packets {
				if !yield(f.Packets[i].Bytes()) {
					return
				}
			}
		}
	})
}

// Techniques is what of the kernel's packets from and to it use.
func (p *Port) Techniques() []string { return p.tun.Load().Techniques() }

// Observed is how the machine is.
func (p *Port) Observed() inside.Observed {
	p.mu.Lock()
	defer p.mu.Unlock()
	return inside.Observed{Port: Name, Problems: slices.Clone(p.observed.Problems), Machine: p.counted()}
}

// Refuses looks whether a plan fits the machine, before anything is changed.
func (p *Port) Refuses(want inside.Desired) error {
	m, err := look(p.device)
	if err != nil {
		return err
	}
	var all []error
	for _, problem := range append(m.missing(want), takenPools(&m, want)...) {
		if problem.Code != reason.LinkDown { // a plan may be changed while a cable is out: that is told
			all = append(all, errors.New(problem.Words))
		}
	}
	return errors.Join(all...)
}

// Apply makes the machine as a plan wants it.
func (p *Port) Apply(want inside.Desired) inside.Observed {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.want = &want
	p.drift = drift{}
	for a := range p.answers {
		if !slices.Contains(want.Answers, a) {
			p.answer(a, false)
		}
	}
	p.reconcile(true)
	for _, a := range want.Answers {
		p.answer(a, true)
	}
	return p.observed
}

// reconcile holds the machine against what is wanted, and makes it so where it may change it. It gives what was otherwise. p.mu is held.
func (p *Port) reconcile(change bool) (drifted []string) {
	m, err := look(p.device)
	if err != nil {
		p.observed.Problems = []inside.Problem{inside.Told(reason.Of(reason.RulesNotTaken, reason.With{reason.Error: err.Error()}))}
		return nil
	}
	p.own.Store(&m.own)
	if d := p.deliver.Load(); d != nil {
		d.Own(m.own)
	}
	if p.want == nil {
		return nil
	}
	want := p.fitting(&m)
	links := m.assign(*p.want, p.device)
	links.Guard = p.guards()
	links.Timeouts = true
	state := kernel.Of(want, links)
	problems := append(m.missing(*p.want), takenPools(&m, *p.want)...)
	note := func(what string, of ...string) {
		if len(of) > 0 {
			slices.Sort(of)
			drifted = append(drifted, what+" ("+few(of)+")")
		}
	}
	index, device, err := p.raise(want, change)
	note("device", device...)
	if err != nil {
		problems = append(problems, inside.Told(reason.Of(reason.DeviceGone, reason.With{reason.Link: p.device})))
	}
	told, changed := p.was.change(settingsFor(state, &m, p.device), p.want.MayChange && change)
	if !change {
		told, changed = nil, p.differs(state, &m)
	}
	note("settings", changed...)
	problems = append(problems, told...)
	if guard := p.guards(); guard != links.Guard { // it is we who switched forwarding on
		links.Guard = guard
		state = kernel.Of(want, links)
	}
	told, changed, err = m.applyRoutes(state.Routes, index, change)
	note("routes", changed...)
	problems = append(problems, told...)
	if err != nil {
		problems = append(problems, inside.Told(reason.Of(reason.RouteNotTaken, reason.With{
			reason.What:  "people",
			reason.Error: err.Error(),
		})))
	}
	told, changed = p.applyTable(&state.Table, change)
	note("rules", changed...)
	problems = append(problems, told...)
	problems = append(problems, m.reverseFilters(want, links)...)
	problems = append(problems, others(want, p.device)...)
	p.observed = inside.Observed{Port: Name, Problems: problems}
	p.tellLinks(problems)
	return drifted
}

const mostNamed = 4 // of what differs

// few names the first of what differs.
func few(of []string) string {
	if len(of) > mostNamed {
		of = append(of[:mostNamed:mostNamed], fmt.Sprintf("and %d more", len(of)-mostNamed))
	}
	return strings.Join(of, ", ")
}

// tellLinks says which links went down, and which came up again. p.mu is held.
func (p *Port) tellLinks(problems []inside.Problem) {
	now := map[string]reason.Reason{}
	for _, x := range problems {
		if x.Code == reason.LinkDown {
			link := x.With[reason.Link]
			if now[link] = x.Reason; p.down[link].None() {
				p.say(x.Reason)
			}
		}
	}
	for link, was := range p.down {
		if l, err := netlink.LinkByName(link); now[link].None() && err == nil && l.Attrs().Flags&1 != 0 { // not gone, nor out of the plan
			p.say(reason.Of(reason.LinkUp, reason.With{reason.Link: link, reason.Network: was.With[reason.Network]}))
		}
	}
	p.down = now
}

// guards tells whether it was we who made a router of this machine.
func (p *Port) guards() bool {
	for key := range p.was.Was {
		if strings.HasSuffix(key, "/forwarding") {
			return true
		}
	}
	return false
}

// fitting is what is wanted without the pools that the machine has elsewhere: theirs stay where they are.
func (p *Port) fitting(m *machine) inside.Desired {
	want := *p.want
	want.Translations = m.today(want)
	want.Pools = slices.Clone(want.Pools)
	now, err := lookRoutes()
	if err != nil {
		return want
	}
	for i := range want.Pools {
		pool := &want.Pools[i]
		pool.Prefixes = slices.DeleteFunc(slices.Clone(pool.Prefixes), func(x netip.Prefix) bool { return len(now.othersWithin(x)) > 0 })
	}
	return want
}

// today are the translations with the address that the outside link has just now, where it has another one than the plan knows.
func (m *machine) today(d inside.Desired) []inside.Translation {
	out := slices.Clone(d.Translations)
	l := m.outside(d.Outside)
	if l == nil {
		return out
	}
	for i := range out {
		t := &out[i]
		if t.Out != inside.Internet || !slices.Contains(d.Outside, t.As) || m.own.Contains(t.As) {
			continue
		}
		for _, p := range l.prefixes {
			if a := p.Addr(); a.Is4() == t.As.Is4() && !a.IsLinkLocalUnicast() {
				t.As = a
				break
			}
		}
	}
	return out
}

// raise makes the device carry packets, and makes it again where it is gone.
func (p *Port) raise(want inside.Desired, change bool) (index int, drifted []string, err error) {
	l, err := netlink.LinkByName(p.device)
	if err != nil {
		if drifted = append(drifted, p.device+" is gone"); !change {
			return 0, drifted, err
		}
		old := p.tun.Load()
		if err = p.makeDevice(); err != nil {
			return 0, drifted, err
		}
		old.Close()
		if l, err = netlink.LinkByName(p.device); err != nil {
			return 0, drifted, err
		}
	}
	p.ours.Store(l.Attrs().Index, nil)
	mtu := 1280
	for _, pool := range want.Pools {
		mtu = max(mtu, pool.MTU)
	}
	a := l.Attrs()
	if a.Flags&1 == 0 {
		drifted = append(drifted, p.device+" is down")
	}
	if a.MTU != mtu {
		drifted = append(drifted, fmt.Sprintf("%s has MTU %d in place of %d", p.device, a.MTU, mtu))
	}
	if a.Flags&1 == 0 || a.MTU != mtu {
		if change {
			err = errors.Join(netlink.LinkSetMTU(l, mtu), netlink.LinkSetUp(l))
		}
	}
	return a.Index, drifted, err
}

// differs says which settings are not as they must be, though we may set them.
func (p *Port) differs(s kernel.State, m *machine) (out []string) {
	for _, x := range settingsFor(s, m, p.device) {
		if now, err := readSetting(x.key); err == nil && !x.must(now) && (x.own || p.want.MayChange) {
			out = append(out, x.differs(now))
		}
	}
	return out
}

// applyTable makes the table of rules, where it is not as it is to be.
func (p *Port) applyTable(want *kernel.Rules, change bool) (problems []inside.Problem, drifted []string) {
	text, now := want.String(), fingerprint()
	if text == p.made && now == p.table {
		return nil, nil
	}
	if drifted = changedIn(p.table, now); now == p.table {
		drifted = []string{followsLinks}
	}
	if !change {
		return nil, drifted
	}
	p.keepLost()
	err := replaceTable(want)
	if err != nil { // where a kernel cannot be told how long to remember, all else must stand nevertheless
		without := want.WithoutTimeouts()
		if err = replaceTable(&without); err == nil {
			p.say(reason.Of(reason.TimeoutsNotTaken, nil))
		}
	}
	if err != nil {
		p.made = ""
		return []inside.Problem{inside.Told(reason.Of(reason.RulesNotTaken, reason.With{reason.Error: err.Error()}))}, drifted
	}
	p.made, p.table = text, fingerprint()
	return nil, drifted
}

// followsLinks is said of rules that differ because links or addresses are others now.
const followsLinks = "they follow links and addresses"

// Close takes away everything that is ours, and sets settings back.
func (p *Port) Close() error {
	close(p.done)
	p.tun.Load().Close()
	p.wait.Wait() // whoever watches may be about to mend: that is waited for without the lock
	p.mu.Lock()
	defer p.mu.Unlock()
	for a := range p.answers {
		p.answer(a, false)
	}
	err := errors.Join(removeRoutes(), removeTable(), p.was.restore())
	p.tun.Load().Close() // it may have been made again meanwhile
	p.tracking.Lock()
	defer p.tracking.Unlock()
	if p.conntrack != nil {
		_ = p.conntrack.Close()
	}
	return err
}
