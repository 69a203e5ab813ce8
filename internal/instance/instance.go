// Package instance wires one running service: store, people, gateway, site lab where asked for, HTTP. It is what `yl
// serve` and `yl demo` start, and what end-to-end tests run against.
package instance

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/agent/socket"
	"yellowlantern/internal/app"
	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/doors"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/httpapi"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Webhook is where events are sent to, Collector where every line of the journal is.
type (
	Webhook   = journal.Webhook
	Collector = journal.Collector
)

// Options say how to start.
type Options struct {
	Data   string // folder for database and key file
	Listen string // HTTP, on loopback
	// ListenTLS are addresses for HTTP over TLS, anywhere, with a certificate that is kept under this name.
	ListenTLS   []string
	Certificate string
	// ListenKits are addresses for the pages of kits, renewals and the revocation list alone, with TLS; KitsAt is where people reach them,
	// and KitsCertificate the name of the certificate.
	ListenKits      []string
	KitsAt          string
	KitsCertificate string
	// AllHere is that people are on this machine, as in a demonstration: links lead to the service where it listens.
	AllHere bool

	OnlyTLS   bool   // browsers are told that the names speak nothing else
	IKE, NATT string // the gateway's UDP ports
	SiteLab   string // description of the stand-in surroundings; empty: none
	Host      bool   // this machine's own networks are the inside
	Device    string // name of the tunnel device then; empty: linux.Device
	KeyLog    string // file for keys; empty: they are not logged
	Plain     bool   // without what the kernel offers for joined packets
	Console   fs.FS
	Log       *slog.Logger
	// PasswordCost is what it costs to try an administrator's password; the zero value: as recommended.
	PasswordCost password.Cost
	// KeepJournal is for how long lines of the journal are kept; 0: for ever.
	KeepJournal time.Duration
	Webhook     *Webhook // nil: nobody is told
	Collector   *Collector
	// Names are what a proxy in front calls the service.
	Names []string
	// Proxies are where proxies in front speak from: they alone are believed about where requests come from.
	Proxies []netip.Prefix
	// OutsideAddresses finds the machine's public addresses towards a name server; nil: by looking.
	OutsideAddresses func(server string) ([]netip.Addr, error)
	// Roots are the authorities that calls to keep the name up to date believe; nil: the system's.
	Roots *x509.CertPool
	// Gateway is the socket of a gateway in a process of its own, of one of these users; empty: it is in this one.
	Gateway      string
	GatewayUsers []uint32
	// Wire stands between the service and its gateway; nil: nothing does.
	Wire func(agent.Agent) agent.Agent
}

// Instance is a running service.
type Instance struct {
	*Side   // nil: the gateway is another process
	App     *app.App
	Store   *store.Store
	People  *people.People
	Address netip.AddrPort // of the HTTP interface
	// AddressesTLS are those of the HTTP interface with TLS.
	AddressesTLS []netip.AddrPort
	// AddressesKits are those of the pages of kits.
	AddressesKits []netip.AddrPort

	names     []string
	log       *slog.Logger
	http      *http.Server
	kits      *http.Server // for the pages of kits; nil: they are open with the console alone
	keep      context.CancelFunc
	kept      guard.Group
	stopped   sync.Once
	elsewhere bool

	stopTaking context.CancelFunc // of the gateway's events
	taken      guard.Group
}

// Start starts everything; what was started is stopped again if something fails.
func Start(ctx context.Context, o Options) (*Instance, error) {
	i := &Instance{log: o.Log, names: o.Names}
	if err := i.start(ctx, o); err != nil {
		i.Stop()
		return nil, err
	}
	return i, nil
}

func (i *Instance) start(ctx context.Context, o Options) (err error) {
	// First, so that a second process on one data folder hears of that, and not of a port that the first one has.
	if i.Store, err = store.Open(o.Data); err != nil {
		return err
	}
	ln, err := open(o.Listen)
	if err != nil {
		return err
	}
	doors, err := openTLS(o.ListenTLS)
	if err != nil {
		_ = ln.Close()
		return err
	}
	kits, err := openTLS(o.ListenKits)
	if err != nil {
		_ = ln.Close()
		closeAll(doors)
		return err
	}
	i.Address = ln.Addr().(*net.TCPAddr).AddrPort()
	i.http = &http.Server{
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 64},
	}
	defer func() {
		if err != nil {
			_ = ln.Close()
			closeAll(append(doors, kits...))
		}
	}()
	at, err := o.at(doors)
	if err != nil {
		return err
	}
	if at == "" && o.AllHere {
		at = i.URL()
	}
	i.People = people.New(i.Store)
	told, taken, vantages, err := i.gateway(ctx, o)
	if err != nil {
		return err
	}
	if o.Wire != nil {
		told = o.Wire(told)
	}
	handle := agent.NewHandle(told, taken)
	conf := app.Config{
		Store: i.Store, People: i.People, Gateway: handle, Vantages: vantages, Log: o.Log,
		OutsideAddresses: o.OutsideAddresses, Roots: o.Roots, KeepJournal: o.KeepJournal, Webhook: o.Webhook, Collector: o.Collector, Names: o.Names, At: at,
		PasswordCost: o.PasswordCost,
	}
	has, err := i.Store.HasAdministrator(ctx)
	if err != nil {
		return err
	}
	if !has {
		conf.SetupCode = access.NewSetupCode()
	}
	i.App = app.New(conf)
	i.listen(handle)
	if err := i.App.Trust.Ensure(ctx); err != nil {
		return err
	}
	if err := i.certify(ctx, o, doors); err != nil {
		return err
	}
	if err := i.App.Resume(ctx); err != nil {
		return fmt.Errorf("the newest revision does not run: %w", err)
	}
	server := httpapi.New(httpapi.Config{
		App: i.App, Console: o.Console, Log: o.Log,
		Names: o.Names, Proxies: o.Proxies, OnlyTLS: o.OnlyTLS,
	})
	i.http.Handler = server.Handler()
	if err := i.openKits(ctx, o, kits, server); err != nil {
		return err
	}
	i.http.RegisterOnShutdown(i.App.Leave) // who looks on would keep the server waiting
	keep, stop := context.WithCancel(context.Background())
	i.keep = stop
	i.kept.Keep("app.keep", func() { i.App.Keep(keep) })
	guard.Go("http.loopback", func() { i.serve(func() error { return i.http.Serve(ln) }) })
	for _, door := range doors {
		guard.Go("http.tls", func() { i.serve(func() error { return i.http.ServeTLS(door, "", "") }) })
	}
	return nil
}

func (i *Instance) serve(do func() error) {
	if err := do(); !errors.Is(err, http.ErrServerClosed) {
		i.log.Error("http", "error", err)
	}
}

// gateway is the gateway that the service tells what to run: its own, or one in another process; with the events of it that were taken
// before, and the places that devices of trials can be at.
func (i *Instance) gateway(ctx context.Context, o Options) (agent.Agent, agent.Mark, []trials.Vantage, error) {
	if o.Gateway != "" {
		i.elsewhere = true
		t, err := i.Store.TakenSoFar(ctx)
		return socket.Dial(o.Gateway, o.GatewayUsers), agent.Mark{Of: t.Of, Sequence: t.Sequence}, nil, err
	}
	var vantages []trials.Vantage
	var err error
	if i.Side, err = begin(o.side(), agent.NewLog()); err != nil {
		return nil, agent.Mark{}, nil, err
	}
	if i.Lab != nil {
		for _, v := range i.Lab.Vantages() {
			vantages = append(vantages, trials.Vantage{Name: v.Name, About: v.About, Link: v.Link})
		}
	}
	return &agent.Local{Runner: i.Runner, Log: i.Log, Desk: i.Desk}, agent.Mark{}, vantages, nil
}

// listen takes what the gateway tells and rules on what it asks, from now on.
func (i *Instance) listen(handle *agent.Handle) {
	handle.Happened = func(ctx context.Context, all []agent.Event, m agent.Mark) bool {
		var lines []gateway.Event
		var past []store.PastSession
		for _, e := range all {
			if e.Line != nil {
				lines = append(lines, *e.Line)
			}
			if o := e.Over; o != nil {
				i.App.Accounting.SessionOver(o.Session, o.Why, o.At) // before it counts as taken: once more does no harm
				if rec, kept := watching.PastOf(o.Session, o.Why, o.At); kept {
					past = append(past, rec)
				}
			}
		}
		return i.App.Journal.Events(ctx, lines, past, store.Taken{Of: m.Of, Sequence: m.Sequence})
	}
	handle.People, handle.Admit = i.People, i.App.Journal.Admit
	if i.elsewhere {
		handle.Away = func(err error) {
			i.App.Journal.Tell(reason.Of(reason.GatewayAway, reason.With{reason.Error: err.Error()}), "")
		}
		handle.Back = func() {
			i.App.Journal.Tell(reason.Of(reason.GatewayBack, nil), "")
			i.App.Running.Again()
		}
	}
	taking, stopTaking := context.WithCancel(context.Background())
	i.stopTaking = stopTaking
	i.taken.Keep("agent.events", func() { handle.Take(taking) })
	i.taken.Keep("agent.inquiries", func() { handle.Rule(taking) })
}

// open opens the HTTP port for what speaks without TLS, so it stays on loopback.
func open(addr string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("%q is no address to listen on: expected 127.0.0.1:8600", addr)
	}
	if ip, err := netip.ParseAddr(host); err != nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("without TLS it stays on loopback: --listen takes 127.0.0.1 or ::1, not %q; elsewhere with TLS, by --listen-tls %s", host, addr)
	}
	ln, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w; choose another with --listen", addr, err)
	}
	return doors.Bounded(ln, mostConnections, 0), nil // a proxy in front is one source for all
}

// Works tells whether the service can do its work: its records can be read.
func (i *Instance) Works(ctx context.Context) error {
	_, err := i.Store.NewestNumber(ctx)
	return err
}

// URL is where the console and the API are.
func (i *Instance) URL() string { return "http://" + i.Address.String() }

// lastCalls is how long calls under way may take still when the service stops.
const lastCalls = 2 * time.Second

// Stop ends requests under way, then the gateway (devices are told), then everything else. A second call does nothing.
func (i *Instance) Stop() { i.stopped.Do(i.stop) }

func (i *Instance) stop() {
	over, cancel := context.WithTimeout(context.Background(), lastCalls)
	var calls guard.Group
	for _, s := range []*http.Server{i.http, i.kits} {
		if s != nil {
			calls.Go("http.shutdown", func() {
				if s.Shutdown(over) != nil {
					_ = s.Close()
				}
			})
		}
	}
	calls.Wait()
	cancel()
	if i.keep != nil {
		i.keep()
		i.kept.Wait()
	}
	if i.App != nil {
		i.App.Close()
	}
	if i.Side != nil {
		i.Desk.Close()
		i.Runner.Stop()
	}
	if i.stopTaking != nil { // after the gateway has told of what ended
		i.stopTaking()
		i.taken.Wait()
	}
	if i.Side != nil {
		i.Side.close(i.log)
	}
	if i.Store != nil {
		_ = i.Store.Close()
	}
}
