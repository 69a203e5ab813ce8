// Package nameserver starts a real name server on loopback for tests.
package nameserver

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// Secret belongs to the key jetty-update, which may change the addresses of gate.tern.example, and to the key reader, which may not.
const Secret = "c2VhYmlyZHMgbmVzdCBvbiB0aGUgbm9ydGggY2xpZmY="

// Start starts a name server with the zone tern.example, and gives its address. Without one installed the test is skipped, in CI it
// fails.
func Start(t *testing.T) string {
	if _, err := exec.LookPath("named"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("named is missing: make apt-test")
		}
		t.Skip("named is missing: make apt-test")
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := ln.Addr().(*net.TCPAddr).Port
	require.NoError(t, ln.Close())
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	zone := write("tern.zone", "$TTL 300\n@ IN SOA names.tern.example. wardens.tern.example. 1 3600 600 86400 60\n@ IN NS names.tern.example.\nnames IN A 198.51.100.53\ngate IN A 192.0.2.99\ngate IN TXT \"keep me\"\n")
	conf := write("named.conf", fmt.Sprintf(`
options { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; pid-file none; lock-file none; session-keyfile none; allow-transfer { none; }; dnssec-validation no; };
controls { };
key "jetty-update" { algorithm hmac-sha256; secret %q; };
key "reader" { algorithm hmac-sha256; secret %q; };
zone "tern.example" { type primary; file %q; update-policy { grant jetty-update name gate.tern.example A AAAA; }; };
`, dir, port, Secret, Secret, zone))
	cmd := exec.Command("named", "-g", "-c", conf, "-n", "1")
	cmd.Dir = dir
	said, err := os.Create(filepath.Join(dir, "named.log"))
	require.NoError(t, err)
	cmd.Stderr = said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if text, err := os.ReadFile(said.Name()); err == nil && t.Failed() {
			t.Logf("the name server said:\n%s", text)
		}
		_ = said.Close()
	})
	server := fmt.Sprintf("127.0.0.1:%d", port)
	require.Eventually(t, func() bool {
		m := new(dns.Msg)
		m.SetQuestion("tern.example.", dns.TypeSOA)
		answer, err := dns.Exchange(m, server)
		return err == nil && len(answer.Answer) == 1
	}, 20*time.Second, 50*time.Millisecond)
	return server
}
