// Package hosttest tries the gateway as a Linux machine runs it: real hosts in network namespaces, real routers, the system's own tools. It
// needs root, and is skipped where there is none; in CI it never is.
package hosttest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/hosts"
	"yellowlantern/internal/lab"
	"yellowlantern/internal/probe"
)

var yl string // the program

func TestMain(m *testing.M) {
	code := func() int {
		if hosts.Possible() != nil && os.Getenv("CI") == "" {
			return m.Run()
		}
		folder, err := os.MkdirTemp("", "yl-hosttest-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(folder)
		if err := os.Chmod(folder, 0o755); err != nil { // for processes of other users
			panic(err)
		}
		yl = filepath.Join(folder, "yl")
		build := exec.Command("go", "build", "-o", yl, "yellowlantern/cmd/yl")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(string(out))
		}
		return m.Run()
	}()
	os.Exit(code)
}

// installed is a gateway machine with the product on it.
type installed struct {
	*hosts.Site
	t      testing.TB
	folder string
	demo   *demo.Scenario
	before string // traces of the machine before anything was installed
	run    *exec.Cmd
	out    *bytes.Buffer
	code   string // to name the first administrator with

	apart bool      // service and gateway are two processes, of two users
	side  *exec.Cmd // the gateway's then
	other string    // another build of the program
	flags []string  // of the service, beside the usual ones
}

// needsHosts skips where no hosts can be made; in CI it fails.
func needsHosts(t testing.TB) {
	t.Helper()
	if err := hosts.Possible(); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal(err)
		}
		t.Skip(err)
	}
}

// install makes Tern Island with the demonstration's people and plan, changed as given, old and new by turns; its gateway runs the service.
func install(t testing.TB, tag string, change ...string) *installed {
	t.Helper()
	return installAs(t, tag, false, change...)
}

func installAs(t testing.TB, tag string, apart bool, change ...string) *installed {
	needsHosts(t)
	if t, ok := t.(*testing.T); ok {
		t.Parallel() // each has hosts of its own, and mostly waits
	}
	s, err := demo.Load("")
	require.NoError(t, err)
	for i := 0; i+1 < len(change); i += 2 {
		require.Equal(t, 1, strings.Count(s.Plan, change[i]), "what is replaced stands once: %q", change[i])
		s.Plan = strings.Replace(s.Plan, change[i], change[i+1], 1)
	}
	d, err := lab.Read([]byte(s.Site))
	require.NoError(t, err)
	g := &installed{t: t, folder: t.TempDir(), demo: s, apart: apart}
	g.Site, err = hosts.Build(t.Context(), d, fmt.Sprintf("%s.%d", tag, os.Getpid()), g.folder)
	require.NoError(t, err)
	t.Cleanup(g.Site.Close)
	g.before = g.traces()
	if apart {
		g.startSide()
	}
	g.start()
	g.password("admin")
	g.yl("sign-in", "--setup-code", g.code, "--password-file", g.file("admin"), "http://127.0.0.1:8600")
	g.yl("certificate", "make", "gate", "--for", "gate.tern.example")
	for _, p := range s.People {
		g.password(p.User)
		args := []string{"users", "add", p.User, "--new-group", "--password-file", g.file(p.User)}
		for _, group := range p.Groups {
			args = append(args, "--group", group)
		}
		g.yl(args...)
	}
	g.commit(s.Plan)
	return g
}

var setupCode = regexp.MustCompile(`--setup-code (\S+)`)

// start starts the service, and waits until it answers.
func (g *installed) start() {
	g.t.Helper()
	g.out = &bytes.Buffer{}
	g.run = g.Command(context.Background(), hosts.Gateway, g.serving()...)
	g.run.Stdout, g.run.Stderr = g.out, g.out
	require.NoError(g.t, g.run.Start())
	run := g.run
	g.t.Cleanup(func() {
		_ = run.Process.Kill()
		_ = run.Wait()
		if g.t.Failed() {
			g.t.Logf("the service said:\n%s", g.out)
		}
	})
	require.Eventually(g.t, func() bool {
		_, err := g.Run(g.t.Context(), hosts.Gateway, "curl", "-s", "-o", "/dev/null", "http://127.0.0.1:8600/")
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "%s", g.out)
	for n := 0; n < 100 && g.code == ""; n++ { // it is printed after the port is open
		if found := setupCode.FindStringSubmatch(g.out.String()); found != nil {
			g.code = found[1]
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// stop ends the service in an orderly way.
func (g *installed) stop() {
	g.t.Helper()
	require.NoError(g.t, g.run.Process.Signal(os.Interrupt))
	require.NoError(g.t, g.run.Wait(), "%s", g.out)
}

func (g *installed) file(user string) string { return filepath.Join(g.folder, user+".password") }

func (g *installed) password(user string) {
	require.NoError(g.t, os.WriteFile(g.file(user), []byte("tern-island-"+user+"-7531\n"), 0o600))
}

// ask runs yl on the gateway.
func (g *installed) ask(args ...string) (string, error) {
	return g.Run(g.t.Context(), hosts.Gateway, append([]string{yl, "--access", filepath.Join(g.folder, "access.json")}, args...)...)
}

// yl runs yl on the gateway, and fails where that fails.
func (g *installed) yl(args ...string) string {
	g.t.Helper()
	out, err := g.ask(args...)
	require.NoError(g.t, err)
	return out
}

// status is what yl status says, as one line.
func (g *installed) status() string {
	g.t.Helper()
	out, _ := g.ask("status") // which fails where something is wrong
	return strings.Join(strings.Fields(out), " ")
}

// commit makes a plan what runs.
func (g *installed) commit(text string) {
	g.t.Helper()
	path := filepath.Join(g.folder, "plan.yaml")
	require.NoError(g.t, os.WriteFile(path, []byte(text), 0o600))
	g.yl("plan", "load", path)
	g.yl("plan", "commit", "-m", "as it is to be", "--accept", "all", "--because", "it is a trial")
}

// kit writes a user's kit, by which another machine can connect.
func (g *installed) kit(user string) string {
	g.t.Helper()
	path := filepath.Join(g.folder, user+".kit")
	_ = os.Remove(path)
	g.yl("probe", "kit", "--user", user, path)
	return path
}

func (g *installed) on(host string, args ...string) string {
	g.t.Helper()
	out, err := g.Run(g.t.Context(), host, args...)
	require.NoError(g.t, err)
	return out
}

// traces is everything of a machine that the gateway may change.
func (g *installed) traces() string {
	return g.on(hosts.Gateway, "sh", "-c",
		`ip -o link; ip -o addr; ip route show table all; ip -6 route show table all; ip neigh show proxy; nft list ruleset;
		sysctl -a 2>/dev/null | grep -E 'forwarding|accept_ra |rp_filter|proxy' | grep -v yl0`)
}

// probed tries everything that is expected of a user, from a vantage, and gives the report.
func (g *installed) probed(user, vantage string) (r probe.Report) {
	g.t.Helper()
	out, err := g.Run(g.t.Context(), hosts.Laptop(vantage), yl, "--json", "probe", "--kit", g.kit(user), "--password-file", g.file(user))
	if err != nil {
		g.t.Logf("%v", err)
	}
	require.NoError(g.t, json.Unmarshal([]byte(out), &r), "%s", out)
	return r
}

// Everybody reaches real machines through the kernel, also where UDP is dropped and where little fits; what is not to be reached is not; a
// stop leaves nothing behind, and so does the next start after a kill.
func TestGatewayOnAHost(t *testing.T) {
	g := install(t, "h1")
	for user, vantage := range map[string]string{
		"rory.researcher": "home", "wanda.warden": "mobile", "vera.volunteer": "hotel", "curt.contractor": "home", "both.birdwatcher": "ipv6-only",
	} {
		r := g.probed(user, vantage)
		require.True(t, r.OK, "%s from %s: %+v", user, vantage, r)
	}
	require.Contains(t, g.status(), "TCP joined with the kernel", "what it has of the kernel's it says, and all of this went by it")
	for _, host := range []string{"office", "records"} { // the gateway is the island's own way to the internet too
		page, err := g.fetch(host, "http://198.51.100.80/")
		require.NoError(t, err, host)
		require.Equal(t, "192.0.2.10\n", page, host)
	}
	_, err := g.fetch("turbine-control", "http://198.51.100.80/")
	require.Error(t, err, "nothing translates for the turbine, and forwarding is on for people alone")
	g.run.Process.Kill()
	_ = g.run.Wait()
	require.Contains(t, g.on(hosts.Gateway, "ip", "route"), "unreachable 10.99.0.0/24", "what is for people never takes another way")
	require.NotContains(t, g.on(hosts.Gateway, "ip", "link"), "yl0")
	g.start()
	require.True(t, g.probed("rory.researcher", "home").OK, "it runs again by itself")
	g.stop()
	require.Equal(t, g.before, g.traces(), "nothing is left")
}
