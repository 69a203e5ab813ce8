package e2e

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/app/running"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
)

// fill writes until a file system is full, and gives what makes room again.
func fill(t *testing.T, folder string) (empty func()) {
	t.Helper()
	path := filepath.Join(folder, "ballast")
	f, err := os.Create(path)
	require.NoError(t, err)
	for size := 1 << 20; size > 0; {
		if _, err := f.Write(make([]byte, size)); err != nil {
			size /= 2
		}
	}
	require.NoError(t, f.Close())
	return func() { require.NoError(t, os.Remove(path)) }
}

// A full disk stops writing, in plain words, and nothing else: people go on, and the service starts. Needs root, for a file system of its
// own.
func TestFullDisk(t *testing.T) {
	folder := t.TempDir()
	if err := unix.Mount("tmpfs", folder, "tmpfs", 0, "size=24m"); err != nil {
		if os.Getenv("CI") != "" {
			require.NoError(t, err)
		}
		t.Skip("needs root, to mount a small file system: ", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(folder, unix.MNT_DETACH) })
	o := options(t)
	o.Data = filepath.Join(folder, "data")
	d, err := tour.Prepare(t.Context(), "", o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	_, _, err = d.Commit(t.Context())
	require.NoError(t, err)
	tn := connect(t, d, "rory.researcher")
	require.NoError(t, ping(t, tn, "10.20.30.5"))

	empty := fill(t, folder)
	user := map[string]any{"name": "late.comer", "password": "eight terns on the jetty", "groups": []string{"wardens"}}
	full := 0
	for range 200 { // what the database has left of its own is used up first
		err := d.Client.Do(t.Context(), "POST", "/users", user, nil)
		if err == nil {
			require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/users/late.comer", nil, nil))
			continue
		}
		status, words := refused(t, d.Client, "POST", "/users", user)
		require.Equal(t, 507, status, words)
		require.Contains(t, words, "disk that holds the records is full")
		full++
		break
	}
	require.Equal(t, 1, full)
	require.NoError(t, ping(t, tn, "10.20.30.5"))

	// A login cannot be recorded: its device is told nothing, in place of that something is wrong, and comes in once there is room.
	_, words := refused(t, d.Client, "PUT", "/drafts/fill", map[string]any{"text": d.Scenario.Plan, "version": 0}) // what is left of room
	require.Contains(t, words, "full")
	ctx, stop := context.WithTimeout(t.Context(), 4*time.Second)
	_, err = probe.Open(ctx, home(t, d), order(t, d, "vera.volunteer"), probe.Options{Password: d.Passwords["vera.volunteer"]})
	stop()
	var fault *dial.Fault
	require.ErrorAs(t, err, &fault)
	require.NotEqual(t, reason.FaultRefused, fault.Code, "%v", err)
	later := connectLater(t, d, "vera.volunteer")
	time.Sleep(2 * time.Second)
	empty()
	require.NoError(t, <-later)
	journaled(t, d, "login", "logged in")
	es, err := client.Get[[]gateway.Event](t.Context(), d.Client, "/journal?kind=login&user=vera.volunteer")
	require.NoError(t, err)
	require.NotEmpty(t, es)
	empty = fill(t, folder)
	text := d.Scenario.Plan
	require.NoError(t, tn.Ended())
	_, words = refused(t, d.Client, "PUT", "/drafts/next", map[string]any{"text": text, "version": 0})
	require.Contains(t, words, "full")

	token := d.Client.Token
	tn.Close()
	d.Stop()
	o.SiteLab = d.Scenario.Site
	i, err := instance.Start(t.Context(), o)
	require.NoError(t, err, "it starts")
	defer i.Stop()
	cl := client.New(i.URL(), token)
	s, err := client.Get[running.Status](t.Context(), cl, "/status")
	require.NoError(t, err)
	require.Equal(t, running.State{Newest: 1, Runs: 1}, s.State)
	empty()
	require.NoError(t, cl.Do(t.Context(), "POST", "/users", user, nil))
}
