package hosttest

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// A mirror on the internet sees the gateway, and what is kept from it: packet rules on the machine, and a plan that says another address.
func TestMirror(t *testing.T) {
	g := install(t, "m1")
	log := g.in("mirror.log")
	cmd := g.Command(t.Context(), "mirror", yl, "mirror", "--listen", "198.51.100.80:8743")
	out, err := os.Create(log)
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	last := ""
	token := func() string { // each is good for one time, and then another one is printed
		used := last
		require.Eventually(t, func() bool {
			b, err := os.ReadFile(log)
			require.NoError(t, err)
			for line := range strings.Lines(string(b)) {
				if strings.Contains(line, ".") && !strings.Contains(line, " ") && strings.HasSuffix(line, "\n") {
					last = strings.TrimSpace(line)
				}
			}
			return last != used
		}, 10*time.Second, 20*time.Millisecond, "no further token")
		path := g.in("token")
		require.NoError(t, os.WriteFile(path, []byte(last), 0o600))
		return path
	}
	knock := func() (string, error) {
		out, err := g.ask("outside", "--mirror", "198.51.100.80:8743", "--token-file", token())
		return strings.Join(strings.Fields(out), " "), err
	}
	said, err := knock()
	require.NoError(t, err, said)
	require.Contains(t, said, "seen from 198.51.100.80:8743 at 192.0.2.10, as the plan says")
	require.Contains(t, said, "udp/500, udp/4500")
	require.NotContains(t, said, "not reached")

	g.on(hosts.Gateway, "nft", "add table inet fw; add chain inet fw in { type filter hook input priority 0; }; add rule inet fw in udp dport 4500 drop")
	said, err = knock()
	require.Error(t, err)
	require.Contains(t, said, "udp/4500 (silent) not reached")
	require.Contains(t, said, "yl host check")
	require.Contains(t, g.status(), "udp/4500 (silent) not reached", "it is remembered")
	findings, _ := g.ask("plan", "check", g.in("plan.yaml"))
	require.Contains(t, findings, "not-reached-from-outside@gateways/jetty/outside")
	way := g.yl("--json", "journey", "--from", "rory.researcher", "--to", "records")
	require.Contains(t, way, "udp/4500 (silent) not reached")
	g.on(hosts.Gateway, "nft", "delete table inet fw")

	// Another address outside than the plan says.
	g.commit(strings.ReplaceAll(g.demo.Plan, "addresses: [192.0.2.10, ", "in-front: {address: 192.0.2.99, forwards: [{service: any, to: 192.0.2.10}]}\n      addresses: [192.0.2.10, "))
	said, err = knock()
	require.Error(t, err)
	require.Contains(t, said, "seen from 198.51.100.80:8743 at 192.0.2.10, and the plan says 192.0.2.99")
	way, err = g.ask("journey", "--from", "rory.researcher", "--to", "records")
	require.Error(t, err)
	require.Contains(t, way, "nobody arrives at the gateway: seen from 198.51.100.80:8743 at 192.0.2.10")
	require.Contains(t, way, "plan set gateways/jetty/outside/in-front/address 192.0.2.10")
	g.stop()
	g.start()
	require.Contains(t, g.status(), "and the plan says 192.0.2.99", "it is kept")
}
