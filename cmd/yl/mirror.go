package main

import (
	"context"
	"fmt"

	urfave "github.com/urfave/cli/v3"

	"yellowlantern/internal/mirror"
)

func runMirror() *urfave.Command {
	return &urfave.Command{
		Name: "mirror", Usage: "tell gateways elsewhere which address they are seen at, and knock at their ports when they ask",
		Flags: []urfave.Flag{
			&urfave.StringFlag{Name: "listen", Usage: "TCP and UDP address", Value: ":8743"},
			&urfave.BoolFlag{Name: "verbose", Usage: "log every connection"},
		},
		Action: func(ctx context.Context, c *urfave.Command) error {
			fmt.Println("Each token is good for one asking: yl outside --mirror THIS-MACHINE:PORT --token-file FILE, where the gateway is.")
			s := &mirror.Server{Log: logger(c), Token: func(token string) { fmt.Println(token) }}
			return s.Serve(ctx, c.String("listen"))
		},
	}
}
