package hosttest

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
	"yellowlantern/internal/people"
)

// A device makes a key that never leaves it, comes in by it without a password, with a certificate for it or without one; taking it back
// ends what it has open at once, and for good. Nobody else's key, and no password, gets in.
func TestDialByKey(t *testing.T) {
	g := install(t, "k1", "login: eap-mschapv2", "login: public-key")
	home := hosts.Laptop("home")
	key, request := g.in("laptop.key"), g.in("laptop-2.key")
	made := func(path string, more ...string) (public string) {
		out := g.on(home, append([]string{yl, "--json", "dial", "new-key"}, append(more, path)...)...)
		var k struct{ Fingerprint, Public string }
		require.NoError(t, json.Unmarshal([]byte(out), &k), out)
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		file := path + ".public"
		require.NoError(t, os.WriteFile(file, []byte(k.Public), 0o600))
		return file
	}
	up := func(more ...string) error {
		args := append([]string{yl, "dial", "up", "--background", "--name", "home"}, more...)
		_, err := g.Run(t.Context(), home, append(args, g.kit("rory.researcher"))...)
		return err
	}
	// One port is enough.
	g.on(home, "nft", "add table ip one; add chain ip one out { type filter hook output priority 0; }; add rule ip one out udp dport 500 drop")
	public := made(key)
	require.ErrorContains(t, up(), "--key")
	require.Error(t, up("--key", key), "nobody has it yet")
	require.Contains(t, g.yl("journal", "--kind", "refused"), "nobody has the key")
	g.yl("users", "keys", "add", "rory.researcher", "--public", public, "--device", "laptop")
	require.NoError(t, up("--key", key))
	require.True(t, g.pings(home, "10.20.30.5"))

	var keys []people.Key
	require.NoError(t, json.Unmarshal([]byte(g.yl("--json", "users", "keys", "list", "rory.researcher")), &keys))
	require.Len(t, keys, 1)
	require.Contains(t, g.yl("--json", "sessions", "list"), keys[0].Fingerprint)
	g.yl("users", "keys", "revoke", keys[0].Fingerprint)
	soon(t, "its session ends", func() bool { return !strings.Contains(g.yl("--json", "sessions", "list"), "rory") })
	require.Contains(t, g.yl("journal", "--code", "key-taken-back"), "rory.researcher")
	require.False(t, g.pings(home, "10.20.30.5"))
	g.hangUp("home")
	require.Error(t, up("--key", key))
	_, err := g.ask("users", "keys", "add", "wanda.warden", "--public", public)
	require.ErrorContains(t, err, "somebody has this key already, or had it")

	g.commit(strings.ReplaceAll(g.demo.Plan, "login: public-key", "login: certificate"))
	asks := made(request, "--request")
	certificate := g.in("laptop.pem")
	require.NoError(t, os.WriteFile(certificate, []byte(g.yl("users", "keys", "add", "rory.researcher", "--public", asks)), 0o600))
	require.ErrorContains(t, up("--key", request), "--certificate")
	older, err := os.ReadFile(certificate)
	require.NoError(t, err)
	newer := g.yl("users", "keys", "add", "rory.researcher", "--public", asks) // which takes its place
	require.NotEqual(t, string(older), newer)
	require.Error(t, up("--key", request, "--certificate", certificate))
	require.NoError(t, os.WriteFile(certificate, []byte(newer), 0o600))
	_, err = g.ask("users", "keys", "add", "wanda.warden", "--public", asks)
	require.ErrorContains(t, err, "somebody has this key already")
	require.NoError(t, up("--key", request, "--certificate", certificate))
	require.True(t, g.pings(home, "10.20.30.5"))
	require.Contains(t, g.yl("certificate", "issued"), "of rory.researcher")
	g.hangUp("home")

	// The device by its certificate, then its person by a password: neither gets in alone.
	g.commit(strings.ReplaceAll(g.demo.Plan, "login: public-key", "login: certificate-and-eap-mschapv2"))
	shown := []string{"--key", request, "--certificate", certificate, "--password-file"}
	require.NoError(t, up(append(shown, g.file("rory.researcher"))...))
	require.True(t, g.pings(home, "10.20.30.5"))
	g.hangUp("home")
	require.Error(t, up(append(shown, g.file("wanda.warden"))...))
	require.Contains(t, g.yl("journal", "--code", "wrong-password"), "rory.researcher")
}

// A person and the gateway share a key: by it both prove who they are, and another is mixed into what protects traffic. Taking either back
// ends what is open at once, and the device does not come back by what it remembers.
func TestDialBySharedKey(t *testing.T) {
	g := install(t, "k2", "login: eap-mschapv2", "login: pre-shared-key\n    mixed-in-key: demand")
	home := hosts.Laptop("home")
	up := func(more ...string) error {
		args := append([]string{yl, "dial", "up", "--background", "--name", "home"}, more...)
		_, err := g.Run(t.Context(), home, append(args, g.kit("rory.researcher"))...)
		return err
	}
	make := func(name string, more ...string) (file string, k people.SharedKey) {
		file = g.in(name)
		out := g.yl(append([]string{"--json", "users", "shared-keys", "make", "--to", file}, more...)...)
		require.NoError(t, json.Unmarshal([]byte(out), &k), out)
		info, err := os.Stat(file)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		return file, k
	}
	require.ErrorContains(t, up(), "--mixed-in-key-file")
	login, _ := make("login", "rory.researcher")
	mixed, inIt := make("mixed", "rory.researcher", "--mixed-in", "--device", "laptop")
	wandas, _ := make("wanda", "wanda.warden", "--mixed-in")
	require.Error(t, up("--shared-key-file", login, "--mixed-in-key-file", wandas))
	require.Contains(t, g.yl("journal", "--code", "mixed-in-key-of-another"), "rory.researcher")
	require.Error(t, up("--shared-key-file", mixed, "--mixed-in-key-file", mixed))
	require.Contains(t, g.yl("journal", "--code", "wrong-shared-key"), "rory.researcher")

	kit := g.kit("rory.researcher") // from beside which files are taken
	beside := strings.TrimSuffix(kit, ".kit")
	require.NotEqual(t, kit, beside)
	require.NoError(t, os.Rename(login, beside+".login"))
	require.NoError(t, os.Rename(mixed, beside+".mixed"))
	require.NoError(t, os.Chmod(beside+".login", 0o644))
	require.ErrorContains(t, up(), "shared-key-file", "others can read it")
	require.NoError(t, os.Chmod(beside+".login", 0o600))
	soon(t, "the right key is judged when the wait for the wrong one is over", func() bool { return up() == nil })
	require.True(t, g.pings(home, "10.20.30.5"))
	require.Contains(t, g.yl("--json", "sessions", "list"), inIt.ID)
	require.NotContains(t, g.yl("--json", "users", "shared-keys", "list"), inIt.Value)
	g.yl("users", "shared-keys", "revoke", inIt.ID)
	soon(t, "its session ends", func() bool { return !strings.Contains(g.yl("--json", "sessions", "list"), "rory") })
	require.Contains(t, g.yl("journal", "--code", "key-taken-back"), "rory.researcher")
	soon(t, "and the device stays out", func() bool {
		return strings.Contains(g.yl("--json", "journal", "--code", "mixed-in-key-unknown"), inIt.ID)
	})
	require.False(t, g.pings(home, "10.20.30.5"))
	g.hangUp("home")
}
