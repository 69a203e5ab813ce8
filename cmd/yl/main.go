// Command yl is Yellow Lantern: the service with its gateway, and the command line that talks to it.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"syscall"

	"yellowlantern/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if os.Getenv("GOMAXPROCS") == "" {
		// One more than there are cores: whoever reads packets and was woken then goes on at once, by the kernel's scheduler, before those
		// who compute; with as many it waits for up to 10 ms until one of them gives way.
		runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1)
	}
	err := cli.New(os.Stdout, serve(), runGateway(), demonstrate(), makeBackup(), restore(), runMirror(), manual()).Run(ctx, os.Args)
	if err != nil {
		fmt.Fprintln(os.Stderr, cli.Complaint(err))
	}
	os.Exit(cli.ExitCode(err))
}
