package hosttest

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
	"yellowlantern/internal/tour"
)

// What keeps a machine from being a gateway is told with its mend before anything is installed; a draft's routes and rules are shown before
// they are made; one command at the machine takes everything away, also while the gateway runs.
func TestHostCommands(t *testing.T) {
	g := install(t, "c1")
	out := g.yl("host", "check", "--dial", "192.0.2.10")
	require.Contains(t, out, "This machine can be a gateway")
	require.Contains(t, out, "the gateway's, process")
	g.on(hosts.Gateway, "nft", "add table inet fw; add chain inet fw in { type filter hook input priority 0; policy drop; };"+
		"add chain inet fw through { type filter hook forward priority 0; policy drop; };"+
		"add rule inet fw in iifname lo accept")
	out, err := g.ask("host", "check", "--filter", "firewall")
	require.Error(t, err)
	require.Contains(t, out, "table inet fw, chain in drops what comes to this machine")
	require.Contains(t, out, "nft insert rule inet fw through iifname yl0 accept")
	soon(t, "seen while it runs", func() bool {
		return strings.Contains(g.status(), "table inet fw, chain through")
	})
	g.on(hosts.Gateway, "nft", "delete", "table", "inet", "fw")
	// One rule of somebody else's that drops one service, or one port of the gateway's.
	for rule, says := range map[string]string{
		"forward; policy accept; }; add rule inet fw one ip daddr 10.20.30.0/24 tcp dport 80 drop": "chain one (forward, priority 0) drops tcp/80 (rule with handle",
		"forward; policy accept; }; add rule inet fw one iifname station tcp dport 22 drop":        "",
		"input; policy accept; }; add rule inet fw one udp dport 500 counter reject":               "chain one (input, priority 0) drops udp/500 (rule with handle",
	} {
		soon(t, "nothing stands in the way", func() bool { return !strings.Contains(g.status(), "table inet fw") })
		hook, add, _ := strings.Cut(rule, ";")
		g.on(hosts.Gateway, "nft", "add table inet fw; add chain inet fw one { type filter hook "+hook+" priority 0;"+add)
		if says != "" {
			soon(t, rule, func() bool { return strings.Contains(g.status(), says) })
			out, _ := g.ask("host", "check", "--filter", "firewall") // a service less is none that keeps it from being a gateway
			require.Contains(t, out, "table inet fw, chain one drops what", rule)
		} else {
			time.Sleep(6 * time.Second) // it is looked at every five
			require.NotContains(t, g.status(), "table inet fw")
		}
		g.on(hosts.Gateway, "nft", "delete", "table", "inet", "fw")
	}

	require.Contains(t, g.yl("host", "preview"), "All of it is there already")
	draft := strings.Replace(g.demo.Plan, "from: [staff, station, archive]}", "from: [staff, station]}", 1)
	path := filepath.Join(g.folder, "draft.yaml")
	require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(draft, "10.99.1.0/26", "10.99.2.0/26")), 0o600))
	g.yl("plan", "load", "--draft", "other", path)
	out = g.yl("host", "preview", "--draft", "other", "--changes")
	require.Contains(t, out, "+ route 10.99.2.0/26 dev yl0")
	require.Contains(t, out, "- route unreachable 10.99.1.0/26")
	require.NotContains(t, g.on(hosts.Gateway, "ip", "route"), "10.99.2.0/26", "nothing was made")

	// A machine that does not fit a plan: one sentence for each thing, with its mend, and nothing is changed.
	rules := g.on(hosts.Gateway, "nft", "-s", "list", "ruleset")
	g.on(hosts.Gateway, "ip", "route", "add", "10.99.2.64/26", "via", "10.20.0.2")
	bad := strings.ReplaceAll(g.demo.Plan, "10.99.1.0/26", "10.99.2.0/25")
	bad = strings.Replace(bad, "- {name: archive, action: permit", "- {name: archive-2, action: permit", 1)
	require.NoError(t, os.WriteFile(path, []byte(bad), 0o600))
	g.yl("plan", "load", "--draft", "bad", path)
	_, err = g.ask("plan", "commit", "--draft", "bad", "-m", "x", "--accept", "all", "--because", "trial")
	require.ErrorContains(t, err, "this machine sends 10.99.2.64/26 via 10.20.0.2 dev station, and pool guests has it for people")
	require.ErrorContains(t, err, "ip route del 10.99.2.64/26")
	require.Equal(t, rules, g.on(hosts.Gateway, "nft", "-s", "list", "ruleset"))
	g.on(hosts.Gateway, "ip", "route", "del", "10.99.2.64/26")

	// A journey asks the kernel too.
	out = g.yl("journey", "--from", "rory.researcher", "--to", "records")
	require.Contains(t, out, "the machine's kernel: via 10.20.0.2 dev station, as the plan says")
	g.on(hosts.Gateway, "ip", "route", "add", "10.20.30.5/32", "via", "10.20.0.30")
	out, err = g.ask("journey", "--from", "rory.researcher", "--to", "records")
	require.Error(t, err)
	require.Contains(t, out, "via 10.20.0.30 dev station, and the plan says via 10.20.0.2 dev station")
	g.on(hosts.Gateway, "ip", "route", "del", "10.20.30.5/32")

	data := filepath.Join(g.folder, "data")
	out = g.yl("host", "clear", "--data", data)
	require.Contains(t, out, "ended the gateway")
	require.Equal(t, g.before, g.traces())
	_ = g.run.Wait()
	g.start()
	require.NoError(t, g.run.Process.Kill())
	_ = g.run.Wait()
	require.NotEqual(t, g.before, g.traces())
	g.yl("host", "clear", "--data", data)
	require.Equal(t, g.before, g.traces(), "after a kill as well")
}

// The demonstration on real hosts tells its whole story, and leaves nothing behind.
func TestDemoHosts(t *testing.T) {
	needsHosts(t)
	t.Parallel()
	out, err := exec.Command(yl, "--json", "demo", "--hosts", "--once").Output()
	require.NoError(t, err, "%s", out)
	var story tour.Story
	require.NoError(t, json.Unmarshal(out, &story))
	require.True(t, story.OK)
	require.GreaterOrEqual(t, len(story.Steps), 12)
	left, err := filepath.Glob("/run/netns/yl-demo-*")
	require.NoError(t, err)
	require.Empty(t, left)
}
