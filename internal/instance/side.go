package instance

import (
	"cmp"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/codepage"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/inside/linux"
	"yellowlantern/internal/lab"
	"yellowlantern/internal/private"
	"yellowlantern/internal/tunnel/ikev2"
	"yellowlantern/internal/tunnel/kinds"
)

// Side is the gateway's side of an instance: sockets, the inside, and what tells of events and asks who may come in.
type Side struct {
	Runner  *gateway.Runner
	Sockets *ikev2.Sockets
	Lab     *lab.Lab
	Host    *linux.Port
	Log     *agent.Log
	Desk    *agent.Desk
	keyLog  *os.File
}

// sideOptions say how a gateway's side is started.
type sideOptions struct {
	folder    string // of its own
	ike, natt string
	siteLab   string
	host      bool
	device    string
	keyLog    string
	plain     bool
	log       *slog.Logger
}

func (o Options) side() sideOptions {
	return sideOptions{o.Data, o.IKE, o.NATT, o.SiteLab, o.Host, o.Device, o.KeyLog, o.Plain, o.Log}
}

// begin opens what a gateway needs; it runs nothing yet. What was opened is closed again if something fails.
func begin(o sideOptions, log *agent.Log) (*Side, error) {
	s := &Side{Log: log, Desk: agent.NewDesk()}
	if err := s.begin(o); err != nil {
		s.close(o.log)
		return nil, err
	}
	return s, nil
}

func (s *Side) begin(o sideOptions) (err error) {
	if s.Sockets, err = ikev2.Listen(o.ike, o.natt, ikev2.How{Plain: o.plain}); err != nil {
		return err
	}
	cfg := gateway.Config{Log: o.log, People: s.Desk, Admit: s.Desk.Admit, Journal: s.Log.Line, Over: s.Log.Over, Page: codepage.Open}
	kind := ikev2.Kind{Sockets: s.Sockets, Log: o.log, Folder: o.folder, ListenTCP: func(port uint16) (net.Listener, error) {
		return net.Listen("tcp", netip.AddrPortFrom(s.Sockets.NATT().Addr(), port).String())
	}}
	if o.keyLog != "" {
		if s.keyLog, err = private.Append(o.keyLog); err != nil {
			return fmt.Errorf("key log: %w", err)
		}
		kind.KeyLog = s.keyLog
	}
	if o.siteLab != "" {
		d, err := lab.Read([]byte(o.siteLab))
		if err != nil {
			return err
		}
		if s.Lab, err = lab.Start(d); err != nil {
			return err
		}
		cfg.Inside, cfg.SeenAt, kind.ListenTCP = s.Lab, s.Lab.SeenAt, s.Lab.ListenTCP
	}
	if o.host {
		tell := func(why reason.Reason) { s.Log.Line(gateway.Tell(why, "", "")) }
		if s.Host, err = linux.Open(linux.Config{
			Device: cmp.Or(o.device, linux.Device), Folder: o.folder, Log: o.log,
			Tell: tell, Plain: o.plain,
		}); err != nil {
			return err
		}
		cfg.Inside = s.Host
	}
	cfg.Kinds = append([]tunnel.Kind{kind}, kinds.Servers()...)
	s.Runner = gateway.NewRunner(cfg)
	if s.Lab != nil {
		s.Lab.Plug(s.Sockets.IKE(), s.Sockets.NATT(), s.Runner.FromInside)
	}
	if s.Host != nil {
		s.Host.Plug(linux.Deliver{Packets: s.Runner.FromInside, Own: s.Runner.Owns})
	}
	return nil
}

// close closes what was opened, after the runner was stopped. A second call does nothing.
func (s *Side) close(log *slog.Logger) {
	if s.Sockets != nil {
		s.Sockets.Close()
	}
	if s.Lab != nil {
		s.Lab.Close()
	}
	if s.Host != nil {
		if err := s.Host.Close(); err != nil {
			log.Error("not everything of ours on this machine could be taken away", "error", err)
		}
	}
	s.Log.Close()
	if s.keyLog != nil {
		_ = s.keyLog.Close()
	}
}
