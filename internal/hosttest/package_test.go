package hosttest

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// machine is a clean Debian system with systemd as its first process, as the gateway's host, in which the package is installed.
type machine struct {
	*installed
	init int // its first process, by the number that it has here
}

// debian makes a tree of the release that this host runs, from where this host has its packages. It is made once, under bin.
func debian(t *testing.T) string {
	t.Helper()
	release, err := os.ReadFile("/etc/os-release")
	require.NoError(t, err)
	suite := regexp.MustCompile(`(?m)^VERSION_CODENAME=(\w+)`).FindSubmatch(release)
	require.NotNil(t, suite)
	tree, err := filepath.Abs("../../bin/.debian-" + string(suite[1])) // with a dot: the toolchain looks through other folders
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(tree, "made")); err == nil {
		return tree
	}
	out, err := exec.Command("apt-get", "indextargets", "--format", "$(RELEASE) $(REPO_URI)", "Created-By: Packages").Output()
	require.NoError(t, err)
	mirror := ""
	for line := range strings.Lines(string(out)) {
		if name, uri, ok := strings.Cut(strings.TrimSpace(line), " "); ok && name == string(suite[1]) {
			mirror = uri
		}
	}
	require.NotEmpty(t, mirror, "%s", out)
	require.NoError(t, os.RemoveAll(tree))
	made, err := exec.Command("debootstrap", "--variant=minbase",
		"--include=systemd,systemd-sysv,iproute2,nftables,procps,init-system-helpers", string(suite[1]), tree, mirror).CombinedOutput()
	require.NoError(t, err, "%s", made)
	require.NoError(t, os.Chmod(tree, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "made"), nil, 0o644))
	return tree
}

// booting is systemd as the first process over an overlay of a tree, in the network namespace that it is started in: with devices, folders
// and a control group of its own, as a container has them, and no option of any unit switched off.
const booting = `
at=$1 tree=$2
mkdir -p "$at/up" "$at/work" "$at/root"
mount -t overlay overlay -o "lowerdir=$tree,upperdir=$at/up,workdir=$at/work" "$at/root"
exec unshare -mpuiCf --kill-child --propagation private bash -eu -c '
mount --make-rprivate /; mount --bind "$0" "$0"; cd "$0"
mount -t proc proc proc; mount -t sysfs -o ro sysfs sys; mount -t cgroup2 cgroup2 sys/fs/cgroup
mount -t tmpfs tmpfs run; mount -t tmpfs -o mode=1777 tmpfs tmp; mount -t tmpfs -o mode=755 tmpfs dev
mkdir dev/net dev/shm dev/pts
for d in null:1:3 zero:1:5 full:1:7 random:1:8 urandom:1:9 tty:5:0 net/tun:10:200; do
  IFS=: read n a b <<<$d; mknod -m 666 dev/$n c $a $b
done
ln -s pts/ptmx dev/ptmx; hostname gate; pivot_root . mnt; cd /; umount -l /mnt
exec env -i container=chroot PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --log-target=journal --show-status=no' "$at/root"
`

// boot starts a host that has nothing of ours yet.
func boot(t *testing.T, g *installed) *machine {
	t.Helper()
	tree, at := debian(t), t.TempDir()
	mounts, err := os.ReadFile("/proc/mounts")
	require.NoError(t, err)
	groups := regexp.MustCompile(`(?m)^\S+ (\S+) cgroup2 `).FindSubmatch(mounts)
	require.NotNil(t, groups, "no control groups of version 2")
	group := filepath.Join(string(groups[1]), fmt.Sprintf("yl-box-%d", os.Getpid()))
	// The group is joined first: in a network namespace's own view of /sys there are none.
	cmd := exec.Command("bash", "-eu", "-c", `mkdir -p "$1"; echo $$ > "$1/cgroup.procs"; exec ip netns exec "$2" bash -eu -c "$3" boot "$4" "$5"`,
		"boot", group, g.Namespace(hosts.Gateway), booting, at, tree)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	m := &machine{installed: g}
	t.Cleanup(func() {
		if t.Failed() && m.init > 0 {
			out, _ := m.Command(context.Background(), hosts.Gateway, m.within("journalctl", "--no-pager", "-n", "150")...).CombinedOutput()
			t.Logf("the journal:\n%s", out)
		}
		if m.init > 0 {
			if p, err := os.FindProcess(m.init); err == nil {
				_ = p.Kill()
			}
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		for range 50 { // groups go once their processes are gone
			_ = exec.Command("find", group, "-depth", "-type", "d", "-exec", "rmdir", "{}", ";").Run()
			if _, err := os.Stat(group); err != nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	require.Eventually(t, func() bool {
		b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", cmd.Process.Pid, cmd.Process.Pid))
		pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
		if err != nil {
			return false
		}
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		m.init = pid
		return strings.TrimSpace(string(name)) == "systemd"
	}, 20*time.Second, 50*time.Millisecond, "%s", &said)
	require.Eventually(t, func() bool {
		out, _ := m.Command(t.Context(), hosts.Gateway, m.within("systemctl", "is-system-running")...).CombinedOutput()
		return slices.Contains([]string{"running", "degraded"}, strings.TrimSpace(string(out)))
	}, 60*time.Second, 200*time.Millisecond, "systemd does not come up")
	return m
}

// within is a command on that host.
func (m *machine) within(args ...string) []string {
	return append([]string{
		"nsenter", "-t", strconv.Itoa(m.init), "-m", "-p", "-n", "-u", "-i", "-C", "-r", "-w", "--",
		"env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "DEBIAN_FRONTEND=noninteractive",
	}, args...)
}

func (m *machine) try(args ...string) (string, error) {
	out, err := m.Command(m.t.Context(), hosts.Gateway, m.within(args...)...).CombinedOutput()
	return string(out), err
}

func (m *machine) do(args ...string) string {
	m.t.Helper()
	out, err := m.try(args...)
	require.NoError(m.t, err, "%s: %s", args, out)
	return out
}

// put writes a file there.
func (m *machine) put(path, mode string, b []byte) {
	m.t.Helper()
	cmd := m.Command(m.t.Context(), hosts.Gateway, m.within("sh", "-c", `umask 077; cat > "$0" && chmod "$1" "$0"`, path, mode)...)
	cmd.Stdin = bytes.NewReader(b)
	out, err := cmd.CombinedOutput()
	require.NoError(m.t, err, "%s", out)
}

// dpkg installs a package that lies here, and gives what it said.
func (m *machine) dpkg(deb string) string {
	m.t.Helper()
	b, err := os.ReadFile(deb)
	require.NoError(m.t, err)
	name := "/tmp/" + filepath.Base(deb)
	m.put(name, "644", b)
	return m.do("dpkg", "-i", name)
}

const gatewayUnit, serviceUnit, probeUnit = "yellow-lantern-gateway.service", "yellow-lantern.service", "yl-probe.service"

// up waits until both units are active, and the service answers.
func (m *machine) up() {
	m.t.Helper()
	require.Eventually(m.t, func() bool {
		out, _ := m.try("systemctl", "is-active", gatewayUnit, serviceUnit)
		return strings.TrimSpace(out) == "active\nactive"
	}, 30*time.Second, 100*time.Millisecond)
	require.Eventually(m.t, func() bool {
		_, err := m.Run(m.t.Context(), hosts.Gateway, "curl", "-s", "-o", "/dev/null", "http://127.0.0.1:8600/")
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
}

// setupCode is that which the service printed last.
func (m *machine) setupCode() (code string) {
	m.t.Helper()
	require.Eventually(m.t, func() bool {
		out, _ := m.try("journalctl", "--no-pager", "-u", "yellow-lantern", "-g", "setup-code")
		if all := setupCode.FindAllStringSubmatch(out, -1); all != nil {
			code = all[len(all)-1][1]
		}
		return code != ""
	}, 20*time.Second, 200*time.Millisecond)
	return code
}

// main is the main process of a unit; 0: there is none just now.
func (m *machine) main(unit string) string {
	m.t.Helper()
	return strings.TrimSpace(m.do("systemctl", "show", "--value", "-p", "MainPID", unit))
}

// another tells whether a unit has another main process than before.
func (m *machine) another(unit, before string) func() bool {
	return func() bool {
		now := m.main(unit)
		return now != "0" && now != before
	}
}

// packageOf builds the package with a version number.
func packageOf(t *testing.T, version string) string {
	t.Helper()
	out, err := exec.Command("make", "-C", "../..", "package", "VERSION="+version).CombinedOutput()
	require.NoError(t, err, "%s", out)
	found, err := filepath.Glob("../../bin/yellow-lantern_" + version + "*.deb")
	require.NoError(t, err)
	require.Len(t, found, 1)
	return found[0]
}

// ofOthers is what Debian's own tools write down, and folders of other packages that are made at need.
var ofOthers = regexp.MustCompile(`^/(var/lib/(dpkg|systemd)|usr/share/(man|bash-completion|zsh|fish)|run/lock|etc/(.*-|\.pwd\.lock|machine-id|resolv.conf))`)

// files lists what is on the host where packages put things, without what Debian's own tools write down.
func (m *machine) files() (all []string) {
	m.t.Helper()
	for line := range strings.Lines(m.do("find", "/etc", "/usr", "/var/lib", "-xdev")) {
		if !ofOthers.MatchString(line) {
			all = append(all, strings.TrimSpace(line))
		}
	}
	slices.Sort(all)
	return all
}

// verified holds the units to what systemd says of them: nothing, and that they are exposed as little as they can be.
func verified(t *testing.T) {
	t.Helper()
	units := t.TempDir() // beside this host's own units
	all := []string{gatewayUnit, serviceUnit, "yl-dial@.service", probeUnit}
	for _, unit := range all {
		b, err := os.ReadFile("../../packaging/" + unit)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(units, unit), []byte(strings.ReplaceAll(string(b), "/usr/bin/yl", yl)), 0o644))
	}
	verify := exec.Command("systemd-analyze", append([]string{"verify", "--man=no"}, all...)...)
	verify.Dir = units
	said, err := verify.CombinedOutput()
	require.NoError(t, err, "%s", said)
	for line := range strings.Lines(string(said)) { // of other packages' units, which it reads as well, it may say what it likes
		require.NotRegexp(t, `yellow-lantern|yl-dial|yl-probe`, line)
	}
	for unit, most := range map[string]string{serviceUnit: "15", gatewayUnit: "25", probeUnit: "15"} {
		look := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold="+most, "../../packaging/"+unit)
		out, err := look.CombinedOutput()
		require.NoError(t, err, "more exposed than it may be: %s", out)
	}
}

// The package on a clean Debian host with systemd as its first process: the first hour, restarts, kills, a port that is busy, an upgrade
// while somebody is connected, a backup put onto a fresh installation, removal, and nothing left after the purge.
func TestPackage(t *testing.T) {
	if os.Getenv("YL_PACKAGE") == "" {
		t.Skip("takes minutes and Debian's archive: make check")
	}
	g := installAs(t, "p1", false) // for its hosts; its own service ends here
	g.stop()
	verified(t)
	m := boot(t, g)
	before := m.files()

	// The first hour.
	old, current := packageOf(t, "0.1.0"), packageOf(t, "99.0.0")
	require.Contains(t, m.dpkg(old), "Yellow Lantern is installed")
	require.Contains(t, m.do("yl", "--version"), "0.1.0")
	require.Contains(t, m.do("sh", "-c", "zcat /usr/share/man/man8/yl.8.gz"), ".TH yl 8")
	m.do("bash", "-n", "/usr/share/bash-completion/completions/yl")
	m.up()
	require.NoError(t, os.Remove(g.in("access.json")))
	g.yl("sign-in", "--setup-code", m.setupCode(), "--password-file", g.file("admin"), "http://127.0.0.1:8600")
	g.yl("certificate", "make", "gate", "--for", "gate.tern.example")
	g.yl("users", "add", "rory.researcher", "--new-group", "--group", "researchers", "--password-file", g.file("rory.researcher"))
	g.commit(g.demo.Plan)
	g.dial("home", "rory.researcher")
	home := hosts.Laptop("home")
	require.True(t, g.pings(home, "10.20.30.5"))

	// Restarts and kills. Sessions outlive the service; the gateway's own end brings the device back.
	stop := g.pinging(home, "10.20.30.5")
	m.do("systemctl", "restart", serviceUnit)
	m.up()
	service := m.main(serviceUnit)
	m.do("kill", "-9", service)
	require.Eventually(t, m.another(serviceUnit, service), 10*time.Second, 100*time.Millisecond)
	m.up()
	lost, sent := stop()
	require.Zero(t, lost, "of %d pings while the service started twice", sent)
	m.do("systemctl", "restart", gatewayUnit)
	m.up()
	require.Eventually(t, func() bool { return g.pings(home, "10.20.30.5") }, 30*time.Second, 200*time.Millisecond)
	gateway := m.main(gatewayUnit)
	m.do("kill", "-9", gateway)
	killed := time.Now()
	require.Eventually(t, m.another(gatewayUnit, gateway), 10*time.Second, 50*time.Millisecond)
	require.Less(t, time.Since(killed), 4*time.Second, "it is back")
	require.Eventually(t, func() bool { return g.pings(home, "10.20.30.5") }, 30*time.Second, 200*time.Millisecond)

	// A port that somebody else has for longer than a few starts take.
	m.do("systemctl", "stop", gatewayUnit)
	busy := holdIKEPort(t, m.Site)
	m.do("systemctl", "start", "--no-block", gatewayUnit)
	time.Sleep(12 * time.Second)
	restarts, err := strconv.Atoi(strings.TrimSpace(m.do("systemctl", "show", "--value", "-p", "NRestarts", gatewayUnit)))
	require.NoError(t, err)
	require.Greater(t, restarts, 5, "it is tried on")
	require.NoError(t, busy.Process.Kill())
	_ = busy.Wait()
	m.up()
	require.Eventually(t, func() bool { return g.pings(home, "10.20.30.5") }, 40*time.Second, 200*time.Millisecond)

	// An upgrade while somebody is connected.
	stop = g.pinging(home, "10.20.30.5")
	out := m.dpkg(current)
	require.Contains(t, out, "no session is interrupted: the gateway goes on as it is with 1 sessions")
	require.Less(t, strings.Index(out, "no session is interrupted"), strings.Index(out, "Unpacking"), "before anything is changed")
	m.up()
	lost, sent = stop()
	require.Zero(t, lost, "of %d pings during the upgrade", sent)
	require.Len(t, g.sessions(), 1)
	require.Contains(t, m.do("yl", "--version"), "99.0.0")
	g.hangUp("home")

	// The host as a probe: it waits as a user that may do nothing, with a key that nobody else can read.
	conf := m.do("cat", "/etc/yellow-lantern/service.conf")
	m.put("/etc/yellow-lantern/service.conf", "644", []byte(conf+"\nYL_LISTEN_KITS=127.0.0.1:8644\nYL_KITS_AT=https://localhost:8644\n"))
	m.do("systemctl", "restart", serviceUnit)
	m.up()
	m.do("sh", "-c", "echo 127.0.0.1 localhost >> /etc/hosts")
	g.yl("probe", "invite", "rock", "--out", g.in("rock.invitation"))
	m.put("/srv/rock.invitation", "600", g.read(g.in("rock.invitation")))
	m.do("yl", "probe", "enroll", "/srv/rock.invitation")
	m.do("systemctl", "start", probeUnit)
	require.Eventually(t, func() bool { return strings.Contains(g.yl("probe", "enrolled"), "connected; enrolled") }, 20*time.Second,
		200*time.Millisecond)
	require.NotEqual(t, "root", strings.TrimSpace(m.do("ps", "-o", "user=", "-p", m.main(probeUnit))))
	require.Equal(t, "yellow-lantern-probe 600\n", m.do("stat", "-c", "%U %a", "/var/lib/yellow-lantern-probe/probe.json"))
	require.Contains(t, g.yl("probe", "--everyone", "--vantage", "rock"), "all as expected; computed and tried agree")
	m.put("/etc/yellow-lantern/service.conf", "644", []byte(conf))
	m.do("rm", "/srv/rock.invitation", "/etc/hosts")

	// The host is lost: what a backup holds is put onto a fresh installation by one command, with and without secrets.
	m.put("/srv/pass", "600", []byte("four unrelated words\n"))
	m.do("yl", "backup", "--passphrase-file", "/srv/pass", "/srv/whole.tar")
	m.do("yl", "backup", "--without-secrets", "/srv/bare.tar")
	m.do("dpkg", "-P", "yellow-lantern")
	m.dpkg(current)
	m.up()
	out = m.do("yl", "restore", "--passphrase-file", "/srv/pass", "/srv/whole.tar")
	require.Contains(t, out, "what was there is kept in /var/lib/yellow-lantern.before-")
	m.up()
	require.Equal(t, "yellow-lantern", strings.TrimSpace(m.do("stat", "-c", "%U", "/var/lib/yellow-lantern/yellowlantern.db")))
	same := func() bool { _, err := g.ask("status"); return err == nil }
	require.Eventually(t, same, 20*time.Second, 200*time.Millisecond, "the same administrator")
	g.dial("home", "rory.researcher")
	require.True(t, g.pings(home, "10.20.30.5"), "and the same gateway")
	g.hangUp("home")
	kit := g.read(g.kit("rory.researcher"))
	m.do("yl", "restore", "/srv/bare.tar")
	m.up()
	require.NotEmpty(t, m.setupCode())
	m.do("rm", "-rf", "/srv/pass", "/srv/whole.tar", "/srv/bare.tar")

	// Removed, with a connection of the host's own that is up; and purged.
	m.put("/etc/yellow-lantern/dial/away.kit", "600", kit)
	m.put("/etc/yellow-lantern/dial/away.password", "600", g.read(g.file("rory.researcher")))
	m.do("systemctl", "start", "yl-dial@away.service")
	require.Contains(t, m.do("pgrep", "-af", "yl dial up"), "--name away")
	t.Log(m.do("dpkg", "-r", "yellow-lantern"))
	m.do("test", "!", "-e", "/usr/bin/yl")
	m.do("test", "-e", "/var/lib/yellow-lantern/yellowlantern.db")
	m.do("test", "-e", "/etc/yellow-lantern/gateway.conf")
	left, err := m.try("pgrep", "-af", "/usr/bin/yl")
	require.Error(t, err, "no process is left: %s", left)
	require.Equal(t, g.before, g.traces())
	t.Log(m.do("dpkg", "-P", "yellow-lantern"))
	m.do("sh", "-c", "rm -rf /var/lib/yellow-lantern.before-*") // which are the administrator's to remove
	require.Equal(t, before, m.files())
	m.do("sh", "-c", "! getent passwd yellow-lantern && ! getent group yellow-lantern")
}

// read is what a file here holds.
func (g *installed) read(path string) []byte {
	g.t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(g.t, err)
	return b
}
