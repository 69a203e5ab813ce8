package linux

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// What the gateway's user wrote is data for root: nothing is set back but settings that we make, by values that they have; links and pipes
// are not read, and nobody else's process is ended.
func TestHostileRecordOfSettings(t *testing.T) {
	folder, elsewhere := t.TempDir(), filepath.Join(t.TempDir(), "victim")
	require.NoError(t, os.WriteFile(elsewhere, []byte("1"), 0o600))
	sleeper := exec.CommandContext(t.Context(), "sleep", "60")
	require.NoError(t, sleeper.Start())
	defer func() { _ = sleeper.Process.Kill() }()
	up := "../../../.." // from /proc/sys/net/…
	all := map[string]string{
		up + elsewhere: "1", "net/ipv4/conf/../../../.." + up + elsewhere: "1", "net/ipv4/conf/../forwarding": "1", "kernel/core_pattern": "1",
		"net/ipv4/conf/./forwarding": "1", "net/ipv6/conf/a-link-with-a-long-name/accept_ra": "1", "net/ipv4/conf/inside/forwarding": "|/bin/sh",
		"net/ipv4/conf/inside/rp_filter": "1", "net/ipv6/conf/inside/accept_ra": "9",
	}
	was := map[string]string{
		"net/ipv4/conf/eth0.7/forwarding": "0", "net/ipv6/conf/all/forwarding": "0", "net/ipv6/conf/wan/accept_ra": "1",
	}
	good := len(was)
	for key, value := range all {
		was[key] = value
	}
	b, err := json.Marshal(map[string]any{"was": was, "set": all, "pid": sleeper.Process.Pid})
	require.NoError(t, err)
	path := filepath.Join(folder, "machine.json")
	require.NoError(t, os.WriteFile(path, b, 0o600))
	r, err := remember(folder)
	require.NoError(t, err)
	require.Len(t, r.Was, good, "%v", r.Was)
	require.Empty(t, r.Set)
	require.False(t, ours(sleeper.Process.Pid, r.owner), "it is another program")
	require.False(t, ours(os.Getpid(), r.owner+1), "it is another user's")
	require.True(t, ours(os.Getpid(), uint32(os.Getuid())))
	require.NoError(t, r.restore())
	text, err := os.ReadFile(elsewhere)
	require.NoError(t, err)
	require.Equal(t, "1", string(text))

	require.NoError(t, os.Symlink(elsewhere, path))
	_, err = remember(folder)
	require.Error(t, err, "a link")
	require.NoError(t, os.Remove(path))
	require.NoError(t, syscall.Mkfifo(path, 0o600))
	_, err = remember(folder)
	require.ErrorContains(t, err, "no regular file")
	require.NoError(t, os.Remove(path))
	require.NoError(t, os.WriteFile(path, make([]byte, mostRemembered+1), 0o600))
	_, err = remember(folder)
	require.ErrorContains(t, err, "no regular file of up to")
}
