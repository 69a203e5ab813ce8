package hosttest

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// machine is a clean Debian tree that the package is installed in, as the gateway's machine.
type machine struct {
	*installed
	tree string
}

// debian makes a tree of the release that this machine runs, from where this machine has its packages.
func debian(t *testing.T) string {
	t.Helper()
	release, err := os.ReadFile("/etc/os-release")
	require.NoError(t, err)
	suite := regexp.MustCompile(`(?m)^VERSION_CODENAME=(\w+)`).FindSubmatch(release)
	require.NotNil(t, suite)
	out, err := exec.Command("apt-get", "indextargets", "--format", "$(RELEASE) $(REPO_URI)", "Created-By: Packages").Output()
	require.NoError(t, err)
	mirror := ""
	for line := range strings.Lines(string(out)) {
		if name, uri, ok := strings.Cut(strings.TrimSpace(line), " "); ok && name == string(suite[1]) {
			mirror = uri
		}
	}
	require.NotEmpty(t, mirror, "%s", out)
	tree := filepath.Join(t.TempDir(), "tree")
	made, err := exec.Command("debootstrap", "--variant=minbase", string(suite[1]), tree, mirror).CombinedOutput()
	require.NoError(t, err, "%s", made)
	require.NoError(t, os.Chmod(tree, 0o755))
	return tree
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

// within is a command in the tree, on the gateway's machine, with what a running system has mounted.
func (m *machine) within(args ...string) []string {
	script := `cd "$0" && mount --bind /dev dev && mount --bind /sys sys && mount -t proc proc proc && ` +
		`mount --bind "$1" dev/net/tun && shift && exec chroot "$0" "$@"`
	return append([]string{"sh", "-c", script, m.tree, m.in("tun")}, args...)
}

func (m *machine) do(args ...string) string {
	m.t.Helper()
	out, err := m.Command(m.t.Context(), hosts.Gateway, m.within(args...)...).CombinedOutput()
	require.NoError(m.t, err, "%s: %s", args, out)
	return string(out)
}

// dpkg installs a package that lies outside the tree, and gives what it said.
func (m *machine) dpkg(deb string) string {
	m.t.Helper()
	b, err := os.ReadFile(deb)
	require.NoError(m.t, err)
	name := "tmp/" + filepath.Base(deb)
	require.NoError(m.t, os.WriteFile(filepath.Join(m.tree, name), b, 0o644))
	return m.do("dpkg", "-i", "/"+name)
}

// unit starts a unit as it says, by hand: of its user, with its capabilities and its command.
func (m *machine) unit(name string) *exec.Cmd {
	m.t.Helper()
	b, err := os.ReadFile(filepath.Join(m.tree, "usr/lib/systemd/system", name))
	require.NoError(m.t, err)
	says := func(key string) string {
		found := regexp.MustCompile(`(?m)^` + key + `=(.*)$`).FindSubmatch(b)
		if found == nil {
			return ""
		}
		return string(found[1])
	}
	caps := "-all"
	for _, c := range strings.Fields(says("AmbientCapabilities")) {
		caps += ",+" + strings.ToLower(strings.TrimPrefix(c, "CAP_"))
	}
	args := append([]string{
		"setpriv", "--reuid", says("User"), "--regid", says("Group"), "--clear-groups", "--no-new-privs",
		"--inh-caps", caps, "--ambient-caps", caps, "--bounding-set", caps, "--",
	}, strings.Fields(says("ExecStart"))...)
	cmd := m.Command(context.Background(), hosts.Gateway, m.within(args...)...)
	log, err := os.OpenFile(m.in(name+".log"), os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600)
	require.NoError(m.t, err)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(m.t, cmd.Start())
	m.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		_ = log.Close()
		if m.t.Failed() {
			said, _ := os.ReadFile(log.Name())
			m.t.Logf("%s said:\n%s", name, said)
		}
	})
	return cmd
}

func (m *machine) serviceUp() {
	m.t.Helper()
	require.Eventually(m.t, func() bool {
		_, err := m.Run(m.t.Context(), hosts.Gateway, "curl", "-s", "-o", "/dev/null", "http://127.0.0.1:8600/")
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
}

// ofOthers is what Debian's own tools write down, and folders of other packages that are made at need.
var ofOthers = regexp.MustCompile(`^/(var/lib/(dpkg|systemd)|usr/share/(man|bash-completion|zsh|fish)|run/lock|etc/(.*-|\.pwd\.lock))`)

// files lists what is in a tree where packages put things, without what Debian's own tools write down.
func (m *machine) files() (all []string) {
	m.t.Helper()
	for line := range strings.Lines(m.do("find", "/etc", "/usr", "/var/lib", "/run", "-xdev")) {
		if !ofOthers.MatchString(line) {
			all = append(all, strings.TrimSpace(line))
		}
	}
	slices.Sort(all)
	return all
}

// The package in a clean Debian tree without a running service manager: installed, started as its units say, upgraded while somebody is
// connected, who does not notice, removed, and purged without leaving anything.
func TestPackage(t *testing.T) {
	if os.Getenv("YL_PACKAGE") == "" {
		t.Skip("takes minutes and Debian's archive: make check")
	}
	g := installAs(t, "p1", false) // for its hosts; its own service ends here
	g.stop()
	require.NoError(t, exec.Command("mknod", "-m", "666", g.in("tun"), "c", "10", "200").Run())
	m := &machine{g, debian(t)}
	require.NoError(t, os.MkdirAll(filepath.Join(m.tree, "dev/net"), 0o755))
	before := m.files()

	old, current := packageOf(t, "0.1.0"), packageOf(t, "99.0.0")
	require.Contains(t, m.dpkg(old), "Yellow Lantern is installed")
	require.Contains(t, m.do("yl", "--version"), "0.1.0")
	require.Contains(t, m.do("sh", "-c", "zcat /usr/share/man/man8/yl.8.gz"), ".TH yl 8")
	require.Contains(t, m.do("cat", "/etc/yellow-lantern/gateway.conf"), "#YL_UDP_IKE=:500")
	m.do("bash", "-n", "/usr/share/bash-completion/completions/yl")
	units := t.TempDir() // beside this machine's own units, which the tree has none of
	all := []string{"yellow-lantern-gateway.service", "yellow-lantern.service", "yl-dial@.service"}
	for _, unit := range all {
		b, err := os.ReadFile(filepath.Join(m.tree, "usr/lib/systemd/system", unit))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(units, unit), []byte(strings.ReplaceAll(string(b), "/usr/bin/yl", yl)), 0o644))
	}
	verify := exec.Command("systemd-analyze", append([]string{"verify", "--man=no"}, all...)...)
	verify.Dir = units
	said, err := verify.CombinedOutput()
	require.NoError(t, err, "%s", said)
	for line := range strings.Lines(string(said)) { // of other packages' units, which it reads as well, it may say what it likes
		require.NotRegexp(t, `yellow-lantern|yl-dial`, line)
	}
	for _, unit := range []string{"yellow-lantern.service", "yellow-lantern-gateway.service"} {
		out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=30",
			"../../packaging/"+unit).CombinedOutput()
		require.NoError(t, err, "more exposed than it may be: %s", out)
	}

	// As the units say. The service is the same as before by what it holds.
	m.unit("yellow-lantern-gateway.service")
	service := m.unit("yellow-lantern.service")
	m.serviceUp()
	var found [][]byte
	require.Eventually(t, func() bool {
		said, err = os.ReadFile(m.in("yellow-lantern.service.log"))
		found = setupCode.FindSubmatch(said)
		return err == nil && found != nil
	}, 10*time.Second, 20*time.Millisecond, "%s", said)
	require.NoError(t, os.Remove(g.in("access.json")))
	g.yl("sign-in", "--setup-code", string(found[1]), "--password-file", g.file("admin"), "http://127.0.0.1:8600")
	g.yl("certificate", "make", "gate", "--for", "gate.tern.example")
	g.yl("users", "add", "rory.researcher", "--new-group", "--group", "researchers", "--password-file", g.file("rory.researcher"))
	g.commit(g.demo.Plan)
	g.dial("home", "rory.researcher")
	home := hosts.Laptop("home")
	require.True(t, g.pings(home, "10.20.30.5"))

	stop := g.pinging(home, "10.20.30.5")
	out := m.dpkg(current)
	require.Contains(t, out, "no session is interrupted: the gateway goes on as it is with 1 sessions")
	require.Less(t, strings.Index(out, "no session is interrupted"), strings.Index(out, "Unpacking"), "before anything is changed")
	require.NoError(t, service.Process.Signal(os.Interrupt)) // what a service manager would do
	require.NoError(t, service.Wait())
	service = m.unit("yellow-lantern.service")
	m.serviceUp()
	lost, sent := stop()
	require.Zero(t, lost, "of %d pings during the upgrade", sent)
	require.Len(t, g.sessions(), 1)
	require.Contains(t, m.do("yl", "--version"), "99.0.0")
	g.hangUp("home")

	require.NoError(t, service.Process.Signal(os.Interrupt))
	require.NoError(t, service.Wait())
	t.Log(m.do("dpkg", "-r", "yellow-lantern")) // which ends the gateway, for nobody else does
	m.do("test", "!", "-e", "/usr/bin/yl")
	m.do("test", "-e", "/var/lib/yellow-lantern/yellowlantern.db")
	m.do("test", "-e", "/etc/yellow-lantern/gateway.conf")
	require.Equal(t, g.before, g.traces())
	t.Log(m.do("dpkg", "-P", "yellow-lantern"))
	require.Equal(t, before, m.files())
	m.do("sh", "-c", "! getent passwd yellow-lantern && ! getent group yellow-lantern")
}
