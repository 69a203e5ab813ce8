package hosttest

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/hosts"
)

// Users of the two processes, and the group that they share.
const (
	sideUser, serviceUser, sharedGroup = 64001, 64002, 64000
	capabilities                       = "-all,+net_admin,+net_bind_service,+net_raw"
)

func (g *installed) in(name string) string { return filepath.Join(g.folder, name) }

// as runs a program as a user, with these capabilities and no others, and none to be had.
func as(user int, caps string, args ...string) []string {
	return append([]string{
		"setpriv", "--reuid", strconv.Itoa(user), "--regid", strconv.Itoa(sharedGroup), "--clear-groups", "--no-new-privs",
		"--inh-caps", caps, "--ambient-caps", caps, "--bounding-set", caps,
	}, args...)
}

// program is what runs on the gateway: another build of it where a test has one.
func (g *installed) program() string { return cmp.Or(g.other, yl) }

// serving is the service's command.
func (g *installed) serving() []string {
	args := append([]string{g.program(), "serve", "--data", g.in("data")}, g.flags...)
	if g.apart {
		args = as(serviceUser, "-all", append(args, "--gateway", g.in("run/gateway.sock"), "--gateway-user", strconv.Itoa(sideUser))...)
	}
	return args
}

// startSide starts the gateway's process, as an installed machine would: of its own user, with three capabilities.
func (g *installed) startSide() {
	g.t.Helper()
	for dir := g.folder; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) { // the others must come through
		require.NoError(g.t, os.Chmod(dir, 0o755))
	}
	for name, user := range map[string]int{"run": sideUser, "side": sideUser, "data": serviceUser} {
		require.NoError(g.t, os.MkdirAll(g.in(name), 0o750))
		require.NoError(g.t, os.Chown(g.in(name), user, sharedGroup))
	}
	tun := g.in("tun") // whom the system lets open it anywhere
	if _, err := os.Stat(tun); err != nil {
		require.NoError(g.t, exec.Command("mknod", "-m", "666", tun, "c", "10", "200").Run())
	}
	args := as(sideUser, capabilities, g.program(), "gateway", "--data", g.in("side"), "--socket", g.in("run/gateway.sock"),
		"--service-user", strconv.Itoa(serviceUser))
	bind := "mount --bind " + tun + " /dev/net/tun && exec "
	g.side = g.Command(context.Background(), hosts.Gateway, "sh", "-c", bind+strings.Join(args, " "))
	log, err := os.OpenFile(g.in("side.log"), os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600)
	require.NoError(g.t, err)
	g.side.Stdout, g.side.Stderr = log, log
	require.NoError(g.t, g.side.Start())
	side := g.side
	g.t.Cleanup(func() {
		_ = side.Process.Kill()
		_ = side.Wait()
		_ = log.Close()
		if g.t.Failed() {
			b, _ := os.ReadFile(log.Name())
			g.t.Logf("the gateway said:\n%s", b)
		}
	})
	require.Eventually(g.t, func() bool {
		_, err := os.Stat(g.in("run/gateway.sock"))
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
}

func (g *installed) kill(cmd *exec.Cmd) {
	g.t.Helper()
	require.NoError(g.t, cmd.Process.Kill())
	_ = cmd.Wait()
}

// pinging pings from a host until it is told to stop, and tells then how many pings were missed, and how many answered.
func (g *installed) pinging(host, to string) (stop func() (lost, answered int)) {
	g.t.Helper()
	over, err := g.Pinging(context.Background(), host, to)
	require.NoError(g.t, err)
	return func() (int, int) {
		p, err := over()
		require.NoError(g.t, err)
		return p.Missed, p.Answered
	}
}

func (g *installed) sessions() (all []watching.LiveSession) {
	g.t.Helper()
	require.NoError(g.t, json.Unmarshal([]byte(g.yl("--json", "sessions", "list")), &all))
	return all
}

func (g *installed) journal(kind string) (all []gateway.Event) {
	g.t.Helper()
	require.NoError(g.t, json.Unmarshal([]byte(g.yl("--json", "journal", "--kind", kind, "--limit", "1000")), &all))
	return all
}

// Service and gateway are two processes of two users, the gateway with three capabilities, the service with none. While the service is
// killed and starts again sessions go on, packet by packet; what happened meanwhile is in the journal afterwards, once; who logs in
// meanwhile waits and comes in without being asked again. A gateway that is killed comes back by itself with what it ran.
func TestTwoProcesses(t *testing.T) {
	g := installAs(t, "a1", true)
	for pid, caps := range map[int]string{g.side.Process.Pid: "0000000000003400", g.run.Process.Pid: "0000000000000000"} {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		require.NoError(t, err)
		for _, set := range []string{"CapEff", "CapPrm", "CapBnd"} {
			require.Contains(t, string(status), set+":\t"+caps)
		}
	}
	home, hotel, mobile := hosts.Laptop("home"), hosts.Laptop("hotel"), hosts.Laptop("mobile")
	g.dial("home", "rory.researcher")
	g.dial("mobile", "wanda.warden")
	require.True(t, g.pings(home, "10.20.30.5"))
	was := g.sessions()
	require.Len(t, was, 2)

	// The service is killed and starts again, over and over, at random moments.
	stop := g.pinging(home, "10.20.30.5")
	for range 4 {
		g.kill(g.run)
		time.Sleep(time.Duration(rand.IntN(700)) * time.Millisecond)
		g.start()
		time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
	}
	require.NoError(t, g.run.Process.Signal(os.Interrupt)) // and once in an orderly way
	require.NoError(t, g.run.Wait())
	_, err := os.Stat(g.in("side/running.json"))
	require.NoError(t, err)

	// Somebody leaves, and somebody comes, while it is away.
	kit := g.in("rory.researcher.kit")
	g.hangUp("mobile")
	coming := make(chan error, 1)
	go func() {
		_, err := g.Run(t.Context(), hotel, yl, "dial", "up", "--background", "--name", "hotel",
			"--password-file", g.file("rory.researcher"), kit)
		coming <- err
	}()
	time.Sleep(2 * time.Second)
	require.Empty(t, coming, "nobody is there who could let them in")
	g.start()
	require.NoError(t, <-coming)
	require.True(t, g.pings(hotel, "10.20.30.5"))
	lost, sent := stop()
	require.Zero(t, lost, "of %d pings during five starts of the service", sent)
	require.Greater(t, sent, 100)
	now := g.sessions()
	require.Len(t, now, 2)
	for _, s := range now {
		if s.ID == was[0].ID || s.ID == was[1].ID {
			require.Greater(t, s.InPackets, uint64(sent), "its counters went on")
		}
	}
	require.Eventually(t, func() bool { return len(g.journal("ended")) == 1 }, 10*time.Second, 100*time.Millisecond)
	require.Len(t, g.journal("login"), 3, "each once")
	require.Empty(t, g.journal("refused"))
	_, err = g.Run(t.Context(), mobile, "ping", "-c", "1", "-W", "1", "10.20.30.5")
	require.Error(t, err)

	// The gateway is killed: nothing leaves in clear, and it comes back by itself, before the service says a word.
	g.kill(g.run)
	g.kill(g.side)
	_, err = g.Run(t.Context(), hosts.Gateway, "ip", "route", "get", "10.99.0.9")
	require.Error(t, err, "what is for people is unreachable meanwhile")
	require.NoError(t, os.Remove(g.in("run/gateway.sock")))
	g.startSide()
	require.Contains(t, g.on(hosts.Gateway, "ip", "route"), "10.99.0.0/24 dev yl0")
	g.start()
	require.Eventually(t, func() bool { return g.pings(home, "10.20.30.5") }, time.Minute, 200*time.Millisecond, "it dials again by itself")
	require.Contains(t, g.yl("journal", "--code", "came-back"), "rory.researcher", "without logging in anew")

	// Killed while the service looks on: that is told, a commit is refused meanwhile, and all is well afterwards.
	g.kill(g.side)
	require.NoError(t, os.Remove(g.in("run/gateway.sock")))
	require.Contains(t, g.status(), "the gateway is not reached")
	next := strings.ReplaceAll(g.demo.Plan, "10.99.1.0/26", "10.99.2.0/26")
	require.NoError(t, os.WriteFile(g.in("next.yaml"), []byte(next), 0o600))
	g.yl("plan", "load", "--draft", "next", g.in("next.yaml"))
	_, err = g.ask("plan", "commit", "--draft", "next", "-m", "x", "--accept", "all", "--because", "trial")
	require.ErrorContains(t, err, "start the gateway's process")
	g.startSide()
	require.Eventually(t, func() bool {
		_, err := g.ask("plan", "commit", "--draft", "next", "-m", "x", "--accept", "all", "--because", "trial")
		return err == nil
	}, 10*time.Second, 200*time.Millisecond)
	require.Contains(t, g.on(hosts.Gateway, "ip", "route"), "10.99.2.0/26 dev yl0")
	require.NotEmpty(t, g.journal("machine"))

	// Nobody else's process may speak with it.
	other := as(64003, "-all", "curl", "-sS", "--http2-prior-knowledge", "--unix-socket", g.in("run/gateway.sock"), "http://gateway/")
	_, err = g.Run(t.Context(), hosts.Gateway, other...)
	require.Error(t, err)

	require.NoError(t, g.side.Process.Signal(os.Interrupt))
	require.NoError(t, g.side.Wait())
	g.stop()
	require.Equal(t, g.before, g.traces())
}

// No packet is missed while plans are committed that change rules, translations, pools and routes of others; what is for the disk that is
// full is refused with what to do, and everything goes on as it was.
func TestCommitsUnderTraffic(t *testing.T) {
	g := installAs(t, "a2", true)
	g.dial("home", "rory.researcher")
	home := hosts.Laptop("home")
	require.True(t, g.pings(home, "10.20.30.5"))
	stop := g.pinging(home, "10.20.30.5")
	for n := range 6 {
		plan := strings.ReplaceAll(g.demo.Plan, "10.99.1.0/26", fmt.Sprintf("10.99.%d.0/26", 2+n%3))
		plan = strings.Replace(plan, "rules:\n", fmt.Sprintf(
			"rules:\n  - {name: extra-%d, action: refuse, groups: [wardens], to: [nestcams], services: [tcp/%d]}\n", n, 9000+n), 1)
		if n%2 == 0 {
			plan = strings.Replace(plan, "from: [staff, station, archive]}", "from: [staff, station]}", 1)
		}
		g.commit(plan)
	}
	lost, answered := stop()
	require.Zero(t, lost, "of %d pings during six commits", answered)

	// The gateway's disk is full.
	before := g.on(hosts.Gateway, "ip", "route", "show", "proto", "221")
	side := g.in("side")
	g.kill(g.side)
	require.NoError(t, os.Remove(g.in("run/gateway.sock")))
	kept := g.in("kept")
	require.NoError(t, exec.Command("cp", "-a", side, kept).Run())
	tmpfs := exec.Command("mount", "-t", "tmpfs", "-o", "size=256k,mode=0700,uid="+strconv.Itoa(sideUser), "yl-full", side)
	require.NoError(t, tmpfs.Run())
	t.Cleanup(func() { _ = exec.Command("umount", "-l", side).Run() })
	require.NoError(t, exec.Command("cp", "-a", kept+"/.", side).Run())
	g.startSide()
	require.Eventually(t, func() bool { return g.pings(home, "10.20.30.5") }, time.Minute, 200*time.Millisecond)
	fill, err := os.Create(filepath.Join(side, "fill"))
	require.NoError(t, err)
	for err == nil {
		_, err = fill.Write(make([]byte, 4096))
	}
	require.NoError(t, fill.Close())
	stop = g.pinging(home, "10.20.30.5")
	require.NoError(t, os.WriteFile(g.in("next.yaml"), []byte(g.demo.Plan), 0o600))
	g.yl("plan", "load", "--draft", "next", g.in("next.yaml"))
	commit := func() error {
		_, err := g.ask("plan", "commit", "--draft", "next", "-m", "x", "--accept", "all", "--because", "trial")
		return err
	}
	require.ErrorContains(t, commit(), "no space left on device")
	require.Equal(t, before, g.on(hosts.Gateway, "ip", "route", "show", "proto", "221"), "nothing half applied")
	g.dial("mobile", "wanda.warden") // logins need nothing of that disk
	require.NoError(t, os.Remove(fill.Name()))
	require.NoError(t, commit())
	lost, answered = stop()
	require.Zero(t, lost, "of %d pings", answered)
	g.hangUp("mobile")
	g.hangUp("home")
	require.NoError(t, g.side.Process.Signal(os.Interrupt))
	require.NoError(t, g.side.Wait())
	g.stop()
	require.Equal(t, g.before, g.traces())
}
