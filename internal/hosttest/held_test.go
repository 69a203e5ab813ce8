package hosttest

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
	isle "yellowlantern/internal/testkit/island"
)

// On a real machine, with gateway and service apart: who is held reaches the code page with the system's own resolver and browser, and
// nothing else, however it is tried; nobody inside sees a packet of theirs. The service is killed meanwhile: they are held still, and
// told to try again. Once the code is given everything opens in the same session, and it stays open when the service is killed after
// that.
func TestHeldOnAHost(t *testing.T) {
	g := installAs(t, "h9", true,
		"    internet: true\n", "    internet: true\n    code-page: {name: code.tern.example, addresses: [10.99.255.1, \"fd00:99:ffff::1\"]}\n",
		"    routes: {split: [station, archive]}\n"+isle.Waived, "    routes: {split: [station, archive]}\n    second-factor: {asked: true}\n")
	secret := g.in("secret")
	require.NoError(t, os.WriteFile(secret, []byte("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ\n"), 0o600))
	codes := regexp.MustCompile(`[A-Z0-9]{4}(-[A-Z0-9]{4}){3}`).FindAllString(
		g.yl("users", "second-factor", "add", "rory.researcher", "--secret-file", secret), -1)
	require.Len(t, codes, 10)
	authority := g.in("authority.pem")
	require.NoError(t, os.WriteFile(authority, []byte(g.yl("certificate", "authority")), 0o644))
	home := hosts.Laptop("home")
	page := func(args ...string) (string, error) {
		return g.Run(t.Context(), home, append(append([]string{"curl", "-sS", "--max-time", "20", "--cacert", authority},
			args...), "https://code.tern.example/")...)
	}
	g.on("records", "nft", "table inet seen { chain c { type filter hook prerouting priority -400; ip saddr 10.99.0.0/24 counter; ip6 saddr fd00:99::/64 counter; }; }")
	counted := func() string { return g.on("records", "nft", "list", "chain", "inet", "seen", "c") }

	g.dial("home", "rory.researcher")
	require.Equal(t, "https://code.tern.example/", g.connected("home").CodePage)
	require.True(t, g.sessions()[0].Held)
	require.False(t, g.pings(home, "10.20.30.5"))
	require.False(t, g.pings(home, "fd00:20:30::5"))
	_, err := g.fetch(home, "http://10.20.30.5/")
	require.Error(t, err)
	out, err := page()
	require.NoError(t, err)
	require.Contains(t, out, "connected as <b>rory.researcher</b>")
	out, err = page("-6")
	require.NoError(t, err, "by IPv6 too")
	require.Contains(t, out, "<b>rory.researcher</b>")
	_, err = g.fetch(home, "http://records.tern.example/")
	require.Error(t, err, "no other name")

	g.kill(g.run)
	out, err = page("-d", "code="+codes[0])
	require.NoError(t, err)
	require.Contains(t, out, "cannot be looked at just now")
	require.False(t, g.pings(home, "10.20.30.5"))
	g.start()
	require.Equal(t, 2, strings.Count(counted(), "packets 0 "), "nothing of theirs got there: %s", counted())

	out, err = page("-d", "code="+codes[0])
	require.NoError(t, err)
	require.Contains(t, out, "You are connected")
	require.True(t, g.pings(home, "10.20.30.5"))
	require.Equal(t, 1, strings.Count(counted(), "packets 0 "), "it would have been seen: %s", counted())
	stop := g.pinging(home, "10.20.30.5")
	g.kill(g.run)
	g.start()
	lost, answered := stop()
	require.Zero(t, lost)
	require.Positive(t, answered)
	text, err := g.fetch(home, "http://records.tern.example/")
	require.NoError(t, err, "names are the island's again")
	require.Contains(t, text, "records of Tern Island")
	g.hangUp("home")
}
