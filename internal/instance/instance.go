// Package instance wires one running service: store, people, gateway, site lab where asked for, HTTP. It is what `yl
// serve` and `yl demo` start, and what end-to-end tests run against.
package instance

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"sync"
	"time"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/app"
	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/httpapi"
	"yellowlantern/internal/inside/linux"
	"yellowlantern/internal/lab"
	"yellowlantern/internal/people"
	"yellowlantern/internal/private"
	"yellowlantern/internal/store"
	"yellowlantern/internal/tunnel/ikev2"
	"yellowlantern/internal/tunnel/kinds"
)

// Webhook is where events are sent to.
type Webhook = journal.Webhook

// Options say how to start.
type Options struct {
	Data      string // folder for database and key file
	Listen    string // HTTP, on loopback
	IKE, NATT string // the gateway's UDP ports
	SiteLab   string // description of the stand-in surroundings; empty: none
	Host      bool   // this machine's own networks are the inside
	Device    string // name of the tunnel device then; empty: linux.Device
	KeyLog    string // file for keys; empty: they are not logged
	Console   fs.FS
	Log       *slog.Logger
	// KeepJournal is for how long lines of the journal are kept; 0: for ever.
	KeepJournal time.Duration
	Webhook     *Webhook // nil: nobody is told
	// Names are what a proxy in front calls the service.
	Names []string
	// OutsideAddresses finds the machine's public addresses towards a name server; nil: by looking.
	OutsideAddresses func(server string) ([]netip.Addr, error)
	// Wire stands between the service and its gateway; nil: nothing does.
	Wire func(agent.Agent) agent.Agent
}

// Instance is a running service.
type Instance struct {
	App     *app.App
	Store   *store.Store
	People  *people.People
	Runner  *gateway.Runner
	Sockets *ikev2.Sockets
	Lab     *lab.Lab
	Host    *linux.Port
	Address netip.AddrPort // of the HTTP interface

	log     *slog.Logger
	http    *http.Server
	keep    context.CancelFunc
	kept    sync.WaitGroup
	keyLog  *os.File
	stopped sync.Once

	stopTaking context.CancelFunc // of the gateway's events
	taken      sync.WaitGroup
}

// Start starts everything; what was started is stopped again if something fails.
func Start(ctx context.Context, o Options) (*Instance, error) {
	i := &Instance{log: o.Log}
	if err := i.start(ctx, o); err != nil {
		i.Stop()
		return nil, err
	}
	return i, nil
}

func (i *Instance) start(ctx context.Context, o Options) (err error) {
	ln, err := listen(o.Listen)
	if err != nil {
		return err
	}
	i.Address = ln.Addr().(*net.TCPAddr).AddrPort()
	i.http = &http.Server{ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	defer func() {
		if err != nil {
			_ = ln.Close()
		}
	}()
	if i.Store, err = store.Open(o.Data); err != nil {
		return err
	}
	if i.Sockets, err = ikev2.Listen(o.IKE, o.NATT); err != nil {
		return err
	}
	cfg := gateway.Config{Log: o.Log}
	kind := ikev2.Kind{Sockets: i.Sockets, Log: o.Log, ListenTCP: func(port uint16) (net.Listener, error) {
		return net.Listen("tcp", netip.AddrPortFrom(i.Sockets.NATT().Addr(), port).String())
	}}
	if o.KeyLog != "" {
		if i.keyLog, err = private.Append(o.KeyLog); err != nil {
			return fmt.Errorf("key log: %w", err)
		}
		kind.KeyLog = i.keyLog
	}
	var vantages []trials.Vantage
	if o.SiteLab != "" {
		d, err := lab.Read([]byte(o.SiteLab))
		if err != nil {
			return err
		}
		if i.Lab, err = lab.Start(d); err != nil {
			return err
		}
		cfg.Inside, cfg.SeenAt, kind.ListenTCP = i.Lab, i.Lab.SeenAt, i.Lab.ListenTCP
		for _, v := range i.Lab.Vantages() {
			vantages = append(vantages, trials.Vantage(v))
		}
	}
	log := &agent.Log{}
	if o.Host {
		tell := func(why reason.Reason) { log.Line(gateway.Tell(why, "", "")) }
		if i.Host, err = linux.Open(linux.Config{
			Device: cmp.Or(o.Device, linux.Device), Folder: o.Data, Log: o.Log,
			Tell: tell,
		}); err != nil {
			return err
		}
		cfg.Inside = i.Host
	}
	i.People = people.New(i.Store)
	cfg.People = i.People
	cfg.Kinds = append([]tunnel.Kind{kind}, kinds.Servers()...)
	cfg.Journal, cfg.Over = log.Line, log.Over
	cfg.Admit = func(e gateway.Event) error { return i.App.Journal.Admit(e) }
	i.Runner = gateway.NewRunner(cfg)
	if i.Lab != nil {
		i.Lab.Plug(i.Sockets.IKE(), i.Sockets.NATT(), i.Runner.FromInside)
	}
	if i.Host != nil {
		i.Host.Plug(linux.Deliver{Packets: i.Runner.FromInside, Own: i.Runner.Owns})
	}
	var told agent.Agent = &agent.Local{Runner: i.Runner, Log: log}
	if o.Wire != nil {
		told = o.Wire(told)
	}
	handle := agent.NewHandle(told)
	conf := app.Config{
		Store: i.Store, People: i.People, Gateway: handle, Vantages: vantages, Log: o.Log,
		OutsideAddresses: o.OutsideAddresses, KeepJournal: o.KeepJournal, Webhook: o.Webhook, Names: o.Names,
	}
	has, err := i.Store.HasAdministrator(ctx)
	if err != nil {
		return err
	}
	if !has {
		conf.SetupCode = access.NewSetupCode()
	}
	i.App = app.New(conf)
	handle.Line, handle.Over = i.App.Journal.Event, i.App.Watching.SessionOver
	taking, stopTaking := context.WithCancel(context.Background())
	i.stopTaking = stopTaking
	i.taken.Go(func() { handle.Take(taking) })
	if err := i.App.Trust.Ensure(ctx); err != nil {
		return err
	}
	if err := i.App.Resume(ctx); err != nil {
		return fmt.Errorf("the newest revision does not run: %w", err)
	}
	i.http.Handler = httpapi.New(httpapi.Config{App: i.App, Console: o.Console, Log: o.Log, Names: o.Names}).Handler()
	i.http.RegisterOnShutdown(i.App.Leave) // who looks on would keep the server waiting
	keep, stop := context.WithCancel(context.Background())
	i.keep = stop
	i.kept.Go(func() { i.App.Keep(keep) })
	go func() {
		if err := i.http.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
			o.Log.Error("http", "error", err)
		}
	}()
	return nil
}

// listen opens the HTTP port. It speaks without TLS, so it stays on loopback.
func listen(addr string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, fmt.Errorf("%q is no address to listen on: expected 127.0.0.1:8600", addr)
	}
	if ip, err := netip.ParseAddr(host); err != nil || !ip.IsLoopback() {
		return nil, fmt.Errorf("the HTTP interface speaks without TLS and stays on loopback: listen on 127.0.0.1 or ::1, not %q, and reach it from elsewhere through a proxy with TLS", host)
	}
	ln, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w; choose another with --listen", addr, err)
	}
	return ln, nil
}

// URL is where the console and the API are.
func (i *Instance) URL() string { return "http://" + i.Address.String() }

// Stop ends requests under way, then the gateway (devices are told), then everything else. A second call does nothing.
func (i *Instance) Stop() { i.stopped.Do(i.stop) }

func (i *Instance) stop() {
	if i.http != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		_ = i.http.Shutdown(ctx)
		cancel()
	}
	if i.keep != nil {
		i.keep()
		i.kept.Wait()
	}
	if i.App != nil {
		i.App.Close()
	}
	if i.Runner != nil {
		i.Runner.Stop()
	}
	if i.stopTaking != nil { // after the gateway has told of what ended
		i.stopTaking()
		i.taken.Wait()
	}
	if i.Sockets != nil {
		i.Sockets.Close()
	}
	if i.Lab != nil {
		i.Lab.Close()
	}
	if i.Host != nil {
		if err := i.Host.Close(); err != nil {
			i.log.Error("not everything of ours on this machine could be taken away", "error", err)
		}
	}
	if i.Store != nil {
		_ = i.Store.Close()
	}
	if i.keyLog != nil {
		_ = i.keyLog.Close()
	}
}
