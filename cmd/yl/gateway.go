package main

import (
	"context"
	"fmt"

	urfave "github.com/urfave/cli/v3"

	"yellowlantern/internal/agent/socket"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/inside/linux"
	"yellowlantern/internal/instance"
)

// socketPath is where a gateway in a process of its own is dialled.
const socketPath = "/run/yellow-lantern/gateway.sock"

func gatewayFlags(data, ike, natt string) []urfave.Flag {
	return []urfave.Flag{
		&urfave.StringFlag{Name: "data", Usage: "folder for its records, for its owner alone", Value: data},
		&urfave.StringFlag{Name: "udp-ike", Usage: "the gateway's UDP address for IKE", Value: ike},
		&urfave.StringFlag{Name: "udp-natt", Usage: "the gateway's UDP address for IKE and ESP in UDP", Value: natt},
		&urfave.StringFlag{Name: "key-log", Usage: "write session keys to this file, for a packet analyser; whoever reads it can read all traffic"},
		&urfave.BoolFlag{Name: "verbose", Usage: "log every request"},
	}
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
		Flags: append(append(gatewayFlags("/var/lib/yellow-lantern-gateway", ":500", ":4500"), insideFlags()...),
			&urfave.StringFlag{Name: "socket", Usage: "where the service dials it (yl serve --gateway)", Value: socketPath},
			&urfave.StringSliceFlag{Name: "service-user", Usage: "whose processes may dial it beside its own user's and root's: a name or a number; several by repeating it"}),
		Action: func(ctx context.Context, c *urfave.Command) error {
			o := instance.GatewayOptions{
				Folder: c.String("data"), Socket: c.String("socket"), IKE: c.String("udp-ike"), NATT: c.String("udp-natt"),
				KeyLog: c.String("key-log"), Log: logger(c),
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
			<-ctx.Done()
			o.Log.Info("stopping")
			return nil
		},
	}
}
