package e2e

import (
	"context"
	"database/sql"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
)

// A standing session's packets wait for nobody: while somebody holds the database's lock for longer than it is waited for, refusals want to
// be written, a login waits for its record, and sessions end, not one ping is lost. What waited is recorded afterwards.
func TestPacketsWaitForNobody(t *testing.T) {
	var folder string
	d := island(t, func(o *instance.Options) { folder = o.Data })
	tn := connect(t, d, "rory.researcher")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	done := make(chan struct{})
	var wait sync.WaitGroup
	var sent, lost atomic.Int32
	wait.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
				time.Sleep(4 * time.Millisecond) // each ping is a flow of its own, of which one session may have so many
				sent.Add(1)
				if ping(t, tn, "10.20.30.5") != nil {
					lost.Add(1)
				}
			}
		}
	})

	db, err := sql.Open("sqlite", filepath.Join(folder, "yellowlantern.db"))
	require.NoError(t, err)
	defer db.Close()
	held, err := db.Conn(t.Context())
	require.NoError(t, err)
	_, err = held.ExecContext(t.Context(), "BEGIN IMMEDIATE; DELETE FROM journal_entries WHERE id = -1")
	require.NoError(t, err)
	begun := time.Now()

	over := connectLater(t, d, "vera.volunteer")
	for range 5 { // each wants its refusal in the journal
		o := order(t, d, "rory.researcher")
		o.User = "nobody.here"
		_, err := probe.Open(t.Context(), home(t, d), o, probe.Options{Password: "not a password"})
		require.Error(t, err)
	}
	time.Sleep(12*time.Second - time.Since(begun))
	select {
	case err := <-over:
		require.Failf(t, "a login was let in that is not recorded", "%v", err)
	default:
	}
	_, err = held.ExecContext(t.Context(), "ROLLBACK")
	require.NoError(t, err)
	require.NoError(t, <-over, "it waited, and came in")
	close(done)
	wait.Wait()
	require.Zero(t, lost.Load(), "of %d pings", sent.Load())
	require.Greater(t, sent.Load(), int32(200))
	require.NoError(t, tn.Ended())
	require.Eventually(t, func() bool {
		es, err := client.Get[[]gateway.Event](context.Background(), d.Client, "/journal?limit=100")
		refused, vera := 0, 0
		for _, e := range es {
			if strings.Contains(e.Words, "there is no such user") {
				refused++
			}
			if e.Kind == "login" && e.User == "vera.volunteer" {
				vera++
			}
		}
		return err == nil && refused > 0 && vera > 0 // a device that began anew meanwhile came in twice
	}, 20*time.Second, 50*time.Millisecond)
	s, err := client.Get[gateway.Status](t.Context(), d.Client, "/status")
	require.NoError(t, err)
	require.Zero(t, s.Unwritten)
}

// connectLater logs somebody in beside everything else. A device gives up after a while and tries again.
func connectLater(t *testing.T, d *tour.Demo, user string) <-chan error {
	t.Helper()
	over := make(chan error, 1)
	u, o := home(t, d), order(t, d, user)
	go func() {
		var err error
		for range 3 {
			var tn *probe.Tunnel
			if tn, err = probe.Open(t.Context(), u, o, probe.Options{Password: d.Passwords[user]}); err == nil {
				t.Cleanup(tn.Close)
				break
			}
		}
		over <- err
	}()
	return over
}
