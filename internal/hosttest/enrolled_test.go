package hosttest

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/hosts"
)

// A machine at home becomes a probe, and tries when it is asked to: what it sees counts, a change that breaks the way back goes back, also
// where the service and the gateway are two processes. What does not answer judges nothing, and a revoked probe does not count.
func TestEnrolledProbe(t *testing.T) {
	g := installAs(t, "ep", true)
	g.stop()
	g.flags = []string{"--listen-kits", "192.0.2.10:8644", "--kits-at", "https://gate.tern.example:8644"}
	g.start()
	invitation, identity, home := g.in("cove.invitation"), g.in("cove.json"), hosts.Laptop("home")
	require.Contains(t, g.yl("probe", "invite", "cove", "--out", invitation), "enrolls one machine as probe cove")
	require.Contains(t, g.yl("probe", "enrolled"), "has not enrolled")
	require.Contains(t, g.on(home, yl, "probe", "enroll", "--identity", identity, invitation), "this machine is probe cove")
	_, err := g.Run(t.Context(), home, yl, "probe", "enroll", "--identity", g.in("again.json"), invitation)
	require.ErrorContains(t, err, "this invitation is not valid", "it counts once")
	require.NoFileExists(t, g.in("again.json"))

	serve := func() (cmd *exec.Cmd, ended func() string) {
		var said bytes.Buffer
		cmd = g.Command(context.Background(), home, yl, "probe", "serve", "--identity", identity)
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		done := make(chan struct{})
		go func() { _ = cmd.Wait(); close(done) }()
		t.Cleanup(func() { _ = cmd.Process.Kill(); <-done })
		soon(t, "it is connected", func() bool { return strings.Contains(g.yl("probe", "enrolled"), "connected; enrolled") })
		return cmd, func() string {
			select {
			case <-done:
			case <-time.After(10 * time.Second):
				require.Fail(t, "the probe goes on")
			}
			return said.String()
		}
	}
	cmd, ended := serve()
	require.Contains(t, g.yl("probe", "--everyone", "--vantage", "cove"), "all as expected; computed and tried agree")
	require.Contains(t, g.yl("probe", "--everyone"), "from this-network, cove", "on a host its own network, and who is connected")

	g.on("ridge", "ip", "route", "replace", "10.99.0.0/24", "via", "10.20.0.1")
	g.on("ridge", "ip", "route", "replace", "10.99.1.0/26", "via", "10.20.0.1")
	g.on("ridge", "ip", "route", "del", "default") // what the plan does not know
	path := filepath.Join(g.folder, "moved.yaml")
	require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(g.demo.Plan, "10.99.0.0/24", "10.98.0.0/24")), 0o600))
	g.yl("plan", "load", path)
	out, err := g.ask("plan", "commit", "--trial", "--vantage", "cove", "--allow-partial-trial", "-m", "move the pool", "--accept", "all",
		"--because", "it is a trial")
	require.Error(t, err)
	require.Regexp(t, `researchers-read-the-archive for researchers\S* .*from cove`, out+err.Error())
	require.Contains(t, g.yl("plan", "show"), "10.99.0.0/24")

	// A change that harms nobody, while the probe that saw how it was is gone.
	g.yl("probe", "--everyone")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	ended()
	require.NoError(t, os.WriteFile(path, []byte("# harmless\n"+g.demo.Plan), 0o600))
	harmless := func() error {
		g.yl("plan", "load", path)
		_, err := g.ask("plan", "commit", "--trial", "--vantage", "this-network,cove", "-m", "harmless", "--accept", "all",
			"--because", "it is one")
		return err
	}
	require.ErrorContains(t, harmless(), "nothing is known of researchers from cove (not tried: probe cove is not connected")
	require.NotContains(t, g.yl("plan", "show"), "harmless")
	require.ErrorContains(t, harmless(), "the trial does not know how it is now:\n  researchers from cove: not tried: probe cove is not connected")
	begun := time.Now()
	out, err = g.ask("--json", "probe", "--everyone", "--vantage", "cove")
	require.Error(t, err)
	require.Less(t, time.Since(begun), time.Minute)
	var r trials.Round
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	require.NotEmpty(t, r.Results)
	for _, x := range r.Results {
		require.False(t, x.OK)
		require.Zero(t, x.Tried)
		require.Contains(t, x.Login, "probe cove is not connected")
		require.True(t, x.NotTried)
	}
	require.NotContains(t, g.yl("journal", "--kind", "reach"), "no longer get in", "it is not known")
	require.Contains(t, g.yl("probe", "enrolled"), "disconnected since")
	require.Contains(t, g.status(), "not connected, so nothing can be tried from there: cove")

	_, ended = serve()
	for begun := time.Now(); time.Since(begun) < 25*time.Second; time.Sleep(time.Second) {
		require.Contains(t, g.yl("probe", "enrolled"), "connected; enrolled", "while it waits, too")
	}
	require.Contains(t, g.yl("probe", "revoke", "cove"), "is revoked")
	require.Contains(t, ended(), "this probe is not enrolled, or was revoked")
	require.Contains(t, g.yl("probe", "enrolled"), "no machine elsewhere is a probe")
}
