package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	urfave "github.com/urfave/cli/v3"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/agent/socket"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/inside/linux"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/ready"
)

// socketPath is where a gateway in a process of its own is dialled.
const socketPath = "/run/yellow-lantern/gateway.sock"

func gatewayFlags(data, ike, natt string) []urfave.Flag {
	return []urfave.Flag{
		&urfave.StringFlag{Name: "data", Usage: "folder for its records, for its owner alone", Value: data},
		&urfave.StringFlag{Name: "udp-ike", Usage: "the gateway's UDP address for IKE", Value: ike},
		&urfave.StringFlag{Name: "udp-natt", Usage: "the gateway's UDP address for IKE and ESP in UDP", Value: natt},
		&urfave.StringFlag{Name: "key-log", Usage: "write session keys to this file, for a packet analyser; whoever reads it can read all traffic"},
		&urfave.BoolFlag{Name: "plain-packets", Usage: "do without what the kernel offers for joined packets, to find out whether a fault comes of it"},
		&urfave.BoolFlag{Name: "verbose", Usage: "log every request"},
	}
}

// settable lets every option be set by a variable as well: --udp-ike by YL_UDP_IKE. An installed machine's configuration files hold these.
func settable(flags []urfave.Flag) []urfave.Flag {
	for _, f := range flags {
		from := urfave.EnvVars("YL_" + strings.ToUpper(strings.ReplaceAll(f.Names()[0], "-", "_")))
		switch f := f.(type) {
		case *urfave.StringFlag:
			f.Sources = from
		case *urfave.StringSliceFlag:
			f.Sources = from
		case *urfave.IntFlag:
			f.Sources = from
		case *urfave.BoolFlag:
			f.Sources = from
		}
	}
	return flags
}

func insideFlags() []urfave.Flag {
	return []urfave.Flag{
		&urfave.StringFlag{Name: "inside", Usage: "what is inside: linux, this machine's own networks, or none", Value: linux.Name},
		&urfave.StringFlag{
			Name:  "device",
			Usage: "name of the tunnel device that carries people's packets to this machine's networks", Value: linux.Device,
		},
	}
}

// insideOf reads them.
func insideOf(c *urfave.Command) (host bool, device string, err error) {
	switch word := c.String("inside"); word {
	case linux.Name:
		host = true
	case "none":
	default:
		return false, "", cli.Failing(cli.ExitUsage, "--inside takes linux or none, not %q", word)
	}
	if device = c.String("device"); len(device) == 0 || len(device) > 15 {
		return false, "", cli.Failing(cli.ExitUsage, "--device takes a name of 1 to 15 characters, such as %s", linux.Device)
	}
	return host, device, nil
}

func usersOf(c *urfave.Command, flag string) (users []uint32, err error) {
	for _, name := range c.StringSlice(flag) {
		n, err := socket.User(name)
		if err != nil {
			return nil, cli.Failing(cli.ExitUsage, "--%s: %w", flag, err)
		}
		users = append(users, n)
	}
	return users, nil
}

func runGateway() *urfave.Command {
	return &urfave.Command{
		Name: "gateway", Usage: "run a gateway in a process of its own, which goes on while the service starts again",
		Flags: settable(append(append(gatewayFlags("/var/lib/yellow-lantern-gateway", ":500", ":4500"), insideFlags()...),
			&urfave.StringFlag{Name: "socket", Usage: "where the service dials it (yl serve --gateway)", Value: socketPath},
			&urfave.StringSliceFlag{Name: "service-user", Usage: "whose processes may dial it beside its own user's and root's: a name or a number; several by repeating it"})),
		Commands: []*urfave.Command{interrupts()},
		Action: func(ctx context.Context, c *urfave.Command) error {
			o := instance.GatewayOptions{
				Folder: c.String("data"), Socket: c.String("socket"), IKE: c.String("udp-ike"), NATT: c.String("udp-natt"),
				KeyLog: c.String("key-log"), Plain: c.Bool("plain-packets"), Log: logger(c),
			}
			var err error
			if o.Host, o.Device, err = insideOf(c); err != nil {
				return err
			}
			if o.Users, err = usersOf(c, "service-user"); err != nil {
				return err
			}
			g, err := instance.StartGateway(o)
			if err != nil {
				return err
			}
			defer g.Stop()
			words := "waits for the service to say what to run"
			if g.Runs {
				words = fmt.Sprintf("runs revision %d, as before", g.Runner.Revision())
			}
			fmt.Printf("gateway: UDP %s (IKE), UDP %s (IKE and ESP); the service dials %s; it %s\n", g.Sockets.IKE(), g.Sockets.NATT(), o.Socket, words)
			ready.Until(ctx, o.Log, g.Works)
			o.Log.Info("stopping")
			return nil
		},
	}
}

// interrupts says what a new start of the gateway, or an upgrade, interrupts.
func interrupts() *urfave.Command {
	return &urfave.Command{
		Name: "interrupts", Usage: "say how many sessions an upgrade to this program, or another one, would interrupt",
		Flags: []urfave.Flag{
			&urfave.StringFlag{Name: "socket", Usage: "where the gateway is dialled", Value: socketPath},
			&urfave.IntFlag{Name: "wire", Usage: "what the other program speaks between service and gateway", Value: agent.Wire},
			&urfave.BoolFlag{Name: "only-if-needed", Usage: "exit code 1 where the running gateway can go on"},
		},
		Action: func(ctx context.Context, c *urfave.Command) error {
			ctx, stop := context.WithTimeout(ctx, 5*time.Second)
			defer stop()
			owner, err := socket.Owner(c.String("socket"))
			if err != nil {
				return cli.Failing(cli.ExitService, "no gateway runs: %w", err)
			}
			a, err := socket.Dial(c.String("socket"), []uint32{owner}).Ask(ctx, agent.Question{Sessions: true})
			mute := errors.Is(err, agent.ErrOtherWire) // it does not say how many sessions it has
			other := c.Int("wire") != agent.Wire || mute
			switch {
			case c.Bool("only-if-needed") && !other:
				return cli.Failing(cli.ExitNot, "the running gateway can go on")
			case err != nil && !mute:
				return cli.Failing(cli.ExitService, "%w", err)
			case c.Bool("json"):
				return asJSON(map[string]any{"sessions": len(a.Sessions), "known": !mute, "interrupts": other})
			case mute:
				fmt.Println("the gateway must start again: all its sessions end, and devices dial again")
			case other:
				fmt.Printf("the gateway must start again: %d sessions end, and devices dial again\n", len(a.Sessions))
			default:
				fmt.Printf("no session is interrupted: the gateway goes on as it is with %d sessions until it is started again (systemctl restart yellow-lantern-gateway)\n",
					len(a.Sessions))
			}
			return nil
		},
	}
}
