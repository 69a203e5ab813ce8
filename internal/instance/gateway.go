package instance

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/agent/socket"
	"yellowlantern/internal/private"
)

// GatewayOptions say how a gateway starts that is a process of its own.
type GatewayOptions struct {
	Folder    string // for what runs, with its keys, and for events that wait; its own alone
	Socket    string // where the service dials it
	Users     []uint32
	IKE, NATT string // UDP addresses
	Host      bool   // this machine's own networks are the inside
	Device    string // name of the tunnel device then
	KeyLog    string // file for keys; empty: they are not logged
	Plain     bool   // without what the kernel offers for joined packets
	Log       *slog.Logger
}

// Gateway is a running gateway without a service.
type Gateway struct {
	*Side
	// Runs says whether it runs what ran before; otherwise it waits for the service.
	Runs bool

	log     *slog.Logger
	lock    *os.File
	server  *socket.Server
	stopped sync.Once
}

// StartGateway starts a gateway with what it ran before, and lets the service dial it.
func StartGateway(o GatewayOptions) (_ *Gateway, err error) {
	g := &Gateway{log: o.Log}
	defer func() {
		if err != nil {
			g.Stop()
		}
	}()
	if err := os.MkdirAll(o.Folder, 0o700); err != nil {
		return nil, fmt.Errorf("the gateway's folder: %w", err)
	}
	if g.lock, err = private.Lock(o.Folder); err != nil {
		return nil, err
	}
	log, err := agent.OpenLog(filepath.Join(o.Folder, "events"))
	if err != nil {
		return nil, err
	}
	if g.Side, err = begin(sideOptions{o.Folder, o.IKE, o.NATT, "", o.Host, o.Device, o.KeyLog, o.Plain, o.Log}, log); err != nil {
		return nil, err
	}
	local := &agent.Local{Runner: g.Runner, Log: log, Desk: g.Desk, Folder: o.Folder}
	var failed error
	if g.Runs, failed = local.Resume(); failed != nil { // the service can mend that: it must be able to dial
		o.Log.Error("what ran before does not run: nobody is admitted until the service says what to run", "error", failed)
	}
	g.server, err = socket.Serve(o.Socket, o.Users, local, o.Log)
	return g, err
}

// Works tells whether the gateway can be asked.
func (g *Gateway) Works(context.Context) error {
	g.Runner.Status()
	return nil
}

// Stop ends every session, and takes everything of ours off the machine. A second call does nothing.
func (g *Gateway) Stop() { g.stopped.Do(g.stop) }

func (g *Gateway) stop() {
	if g.Side != nil {
		g.Desk.Close()
		g.Runner.Stop()
	}
	if g.server != nil {
		g.server.Close()
	}
	if g.Side != nil {
		g.Side.close(g.log)
	}
	if g.lock != nil {
		_ = g.lock.Close()
	}
}
