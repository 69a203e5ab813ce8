package ready

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Readiness, signs of life as long as it works, and the end are told; what does not work, or never answers, gives no sign of life.
func TestUntil(t *testing.T) {
	path := filepath.Join(t.TempDir(), "notify")
	manager, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer manager.Close()
	t.Setenv("NOTIFY_SOCKET", path)
	t.Setenv("WATCHDOG_USEC", "150000")
	said := func() string {
		b := make([]byte, 100)
		_ = manager.SetReadDeadline(time.Now().Add(400 * time.Millisecond))
		n, err := manager.Read(b)
		if err != nil {
			return "nothing"
		}
		return string(b[:n])
	}
	var state atomic.Int32 // 0 works, 1 fails, 2 hangs
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		Until(ctx, slog.New(slog.DiscardHandler), func(ctx context.Context) error {
			switch state.Load() {
			case 1:
				return errors.New("broken")
			case 2:
				select {}
			}
			return nil
		})
	}()
	require.Equal(t, "READY=1", said())
	require.Equal(t, "WATCHDOG=1", said())
	for _, bad := range []int32{1, 2} {
		state.Store(bad)
		for said() != "nothing" {
		}
		state.Store(0)
		require.Equal(t, "WATCHDOG=1", said())
	}
	stop()
	<-done
	last := ""
	for s := said(); s != "nothing"; s = said() {
		last = s
	}
	require.Equal(t, "STOPPING=1", last)
}
