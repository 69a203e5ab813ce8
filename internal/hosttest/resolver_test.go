package hosttest

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// A bus on which everybody may do everything: only the test's processes see it.
const bus = `<busconfig><type>system</type><listen>unix:path=/run/dbus/system_bus_socket</listen><auth>EXTERNAL</auth>
<policy context="default"><allow user="*"/><allow own="*"/><allow send_type="method_call"/><allow send_type="signal"/>
<allow send_requested_reply="true"/><allow receive_type="method_call"/><allow receive_type="method_return"/><allow receive_type="error"/>
<allow receive_type="signal"/></policy></busconfig>
`

// resolving makes the system's own resolver run on a laptop, in a mount namespace of its own; %[1]s is the test's folder, %[2]s where the
// package was unpacked, %[3]s the name server of the network that the laptop is on.
const resolving = `set -e
mount --make-rprivate /
umount /etc/resolv.conf
cp -a /etc %[1]s/etc
mount --bind %[1]s/etc /etc
mount -t tmpfs none /run
mkdir -p /run/dbus /run/systemd/resolve
echo 'systemd-resolve:x:991:991::/:/usr/sbin/nologin' >> /etc/passwd
echo 'systemd-resolve:x:991:' >> /etc/group
chown 991:991 /run/systemd/resolve
ln -sf /run/systemd/resolve/stub-resolv.conf /etc/resolv.conf
dbus-daemon --config-file=%[1]s/bus.conf --nofork &
sleep 0.5
%[2]s/lib/systemd/systemd-resolved &
for i in 1 2 3 4 5 6 7 8 9 10; do [ -e /run/systemd/resolve/stub-resolv.conf ] && break; sleep 0.2; done
%[2]s/usr/bin/resolvectl dns home %[3]s
touch %[1]s/ready
exec sleep 600
`

// Where the system's own resolver runs, names of the tunnel's domains are asked of the gateway's name servers and all others where they
// were asked before; afterwards it is as it was. It runs unpacked, not installed: its package would change how this machine asks for names.
func TestSystemResolver(t *testing.T) {
	unpacked := os.Getenv("YL_RESOLVED")
	if unpacked == "" {
		t.Skip("wants Debian's package unpacked: make check")
	}
	g := install(t, "r1")
	home := hosts.Laptop("home")
	require.NoError(t, os.WriteFile(g.in("bus.conf"), []byte(bus), 0o600))
	log, err := os.Create(g.in("resolver.log"))
	require.NoError(t, err)
	cmd := g.Command(t.Context(), home, "unshare", "-m", "sh", "-c", fmt.Sprintf(resolving, g.folder, unpacked, "198.51.100.53"))
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if b, err := os.ReadFile(log.Name()); err == nil && t.Failed() {
			t.Logf("the resolver said:\n%s", b)
		}
	})
	soon(t, "the resolver runs", func() bool { _, err := os.Stat(g.in("ready")); return err == nil })
	on := func(args ...string) (string, error) {
		in := append([]string{"nsenter", "-t", fmt.Sprint(cmd.Process.Pid), "-m", "-n", "env", "PATH=" +
			filepath.Join(unpacked, "usr/bin") + ":" + os.Getenv("PATH")}, args...)
		return g.Run(t.Context(), home, in...)
	}
	query := func(name string) string {
		out, _ := on("resolvectl", "query", "--cache=no", name)
		return out
	}
	settings := func() string {
		servers, err := on("resolvectl", "dns")
		require.NoError(t, err)
		domains, err := on("resolvectl", "domain")
		require.NoError(t, err)
		return servers + domains
	}
	before := settings()
	require.Contains(t, query("gate.tern.example"), "192.0.2.10")
	require.NotContains(t, query("records.tern.example"), "10.20.30.5")

	_, err = on(yl, "dial", "up", "--background", "--name", "home", "--password-file", g.file("rory.researcher"), g.kit("rory.researcher"))
	require.NoError(t, err)
	require.Contains(t, query("records.tern.example"), "10.20.30.5")
	out, err := on("curl", "-sS", "--max-time", "4", "http://records/")
	require.NoError(t, err, "by the search domain, through the system's stub")
	require.Contains(t, out, "records of Tern Island")
	out, err = on("resolvectl", "status")
	require.NoError(t, err)
	require.Regexp(t, `DNS Domain: tern\.example`, out)
	require.Contains(t, out, "10.20.0.53")

	_, err = on(yl, "dial", "down", "home")
	require.NoError(t, err)
	time.Sleep(300 * time.Millisecond)
	require.Equal(t, before, settings())
	require.Contains(t, query("gate.tern.example"), "192.0.2.10")

	// A warden's full tunnel takes all names along.
	_, err = on(yl, "dial", "up", "--background", "--name", "home", "--password-file", g.file("wanda.warden"), g.kit("wanda.warden"))
	require.NoError(t, err)
	out, err = on("resolvectl", "status")
	require.NoError(t, err)
	require.Contains(t, out, "~.")
	require.Contains(t, query("records.tern.example"), "10.20.30.5")
	_, err = on(yl, "dial", "down", "home")
	require.NoError(t, err)

	// It runs, and nobody asks it: somebody wrote a resolv.conf of their own.
	_, err = on("sh", "-c", "rm /etc/resolv.conf; echo nameserver 198.51.100.53 > /etc/resolv.conf")
	require.NoError(t, err)
	_, err = on(yl, "dial", "up", "--background", "--name", "home", "--password-file", g.file("rory.researcher"), g.kit("rory.researcher"))
	require.NoError(t, err)
	out, err = on("curl", "-sS", "--max-time", "4", "http://records.tern.example/")
	require.NoError(t, err)
	require.Contains(t, out, "records of Tern Island")
	_, err = on(yl, "dial", "down", "home")
	require.NoError(t, err)
	out, err = on("cat", "/etc/resolv.conf")
	require.NoError(t, err)
	require.Equal(t, "nameserver 198.51.100.53\n", out)
}
