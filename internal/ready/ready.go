// Package ready tells whoever started a process (a service manager, by sd_notify(3)) that it is ready, that it still works, and that it
// stops. Where nobody wants to know it does nothing.
package ready

import (
	"context"
	"log/slog"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"yellowlantern/internal/guard"
)

// Until says that the process is ready, and that it works as long as works says so, until the context ends; then that it stops. A process
// that says nothing for too long is started anew: works must return within a few seconds.
func Until(ctx context.Context, log *slog.Logger, works func(context.Context) error) {
	_, _ = daemon.SdNotify(false, daemon.SdNotifyReady)
	defer func() { _, _ = daemon.SdNotify(false, daemon.SdNotifyStopping) }()
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		<-ctx.Done()
		return
	}
	tick := time.NewTicker(every / 3)
	defer tick.Stop()
	for {
		if err := within(ctx, every/3, works); err != nil {
			log.Error("this process does not work as it should; it is started anew if that lasts", "error", err)
		} else {
			_, _ = daemon.SdNotify(false, daemon.SdNotifyWatchdog)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// within asks whether it works, also where the answer never comes.
func within(ctx context.Context, most time.Duration, works func(context.Context) error) error {
	ctx, stop := context.WithTimeout(ctx, most)
	defer stop()
	got := make(chan error, 1)
	guard.Go("ready.within", func() { got <- works(ctx) })
	select {
	case err := <-got:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}
