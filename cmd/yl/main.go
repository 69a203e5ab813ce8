// Command yl is Yellow Lantern: the service with its gateway, and the command line that talks to it.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"yellowlantern/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := cli.New(os.Stdout, serve(), runGateway(), demonstrate(), makeBackup(), restore(), runMirror(), manual()).Run(ctx, os.Args)
	if err != nil {
		fmt.Fprintln(os.Stderr, cli.Complaint(err))
	}
	os.Exit(cli.ExitCode(err))
}
