package hosttest

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// shifting is added to the program: a signal sets its clock an hour forward, another one an hour back.
const shifting = `package main

import (
	"os"
	"os/signal"
	"strconv"
	"syscall"
	_ "unsafe"
)

//go:linkname shift time.shift
var shift int64

func init() {
	shift, _ = strconv.ParseInt(os.Getenv("YL_SHIFT"), 10, 64)
	set := make(chan os.Signal, 9)
	signal.Notify(set, syscall.SIGUSR1, syscall.SIGUSR2)
	go func() {
		for s := range set {
			if s == syscall.SIGUSR1 {
				shift += 3600
			} else {
				shift -= 3600
			}
		}
	}()
}
`

// shifted builds the program with a clock that can be set: that of a machine cannot be, for one of its namespaces alone.
func shifted(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	source := filepath.Join(strings.TrimSpace(string(root)), "src/time/time.go")
	b, err := os.ReadFile(source)
	require.NoError(t, err)
	const reads = "sec, nsec, mono := runtimeNow()\n"
	require.Contains(t, string(b), reads)
	text := strings.Replace(string(b), reads, reads+"\tsec += shift\n", 1) + "\nvar shift int64\n"
	main, err := filepath.Abs("../../cmd/yl/shift.go")
	require.NoError(t, err)
	replace := map[string]string{}
	for path, text := range map[string]string{source: text, main: shifting} {
		to := filepath.Join(folder, filepath.Base(path))
		require.NoError(t, os.WriteFile(to, []byte(text), 0o600))
		replace[path] = to
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replace})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "overlay.json"), overlay, 0o600))
	program := filepath.Join(filepath.Dir(yl), "yl-shifted")
	build := exec.Command("go", "build", "-overlay", filepath.Join(folder, "overlay.json"), "-ldflags", "-checklinkname=0", "-o", program,
		"yellowlantern/cmd/yl")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return program
}

// The clocks of gateway and service are set an hour forward and an hour back while people are connected: no packet is missed, nobody is put
// out, logins and commits go on, what is silent is forgotten in time, and a clock that went back behind what is written down is told.
func TestClockIsSet(t *testing.T) {
	if os.Getenv("YL_CLOCK") == "" {
		t.Skip("builds everything once more: make check")
	}
	program := shifted(t)
	g := installAs(t, "t1", true)
	for _, cmd := range []*exec.Cmd{g.run, g.side} {
		g.kill(cmd)
	}
	require.NoError(t, os.Remove(g.in("run/gateway.sock")))
	g.other = program
	g.startSide()
	g.start()
	set := func(by syscall.Signal) {
		for _, cmd := range []*exec.Cmd{g.run, g.side} {
			require.NoError(t, cmd.Process.Signal(by))
		}
	}
	home, mobile := hosts.Laptop("home"), hosts.Laptop("mobile")
	g.dial("home", "rory.researcher")
	require.True(t, g.pings(home, "10.20.30.5"))
	stop := g.pinging(home, "10.20.30.5")
	flows := func() int { return strings.Count(g.yl("--json", "flows"), `"src"`) }
	for n, by := range []syscall.Signal{syscall.SIGUSR1, syscall.SIGUSR2, syscall.SIGUSR2, syscall.SIGUSR1} {
		set(by)
		time.Sleep(2 * time.Second)
		g.dial("mobile", "wanda.warden")
		_, err := g.fetch(mobile, "http://10.20.30.5/")
		require.NoError(t, err, "set %d times", n+1)
		g.commit(g.demo.Plan + strings.Repeat("#\n", n+1))
		require.True(t, g.pings(mobile, "10.20.30.5"))
		g.hangUp("mobile")
		if n == 2 {
			require.Contains(t, g.status(), "it went back, or was ahead then")
		}
	}
	// A device whose clock is a year back says so, and so does the gateway's journal as far as it is told.
	late := []string{"env", "YL_SHIFT=-31536000", program, "dial", "up", "--background", "--name", "mobile", "--password-file"}
	_, err := g.Run(t.Context(), mobile, append(late, g.file("wanda.warden"), g.kit("wanda.warden"))...)
	require.ErrorContains(t, err, "this device's clock shows")
	require.Contains(t, g.yl("diagnose", "wanda.warden", "--complaint", "cannot-connect", "--no-trial"), "look at the device's clock")
	require.True(t, g.pings(home, "10.20.30.7"), "a flow of its own")
	soon(t, "it is forgotten half a minute after", func() bool { return flows() > 1 })
	require.Eventually(t, func() bool { return flows() == 1 }, time.Minute, time.Second, "what is silent is forgotten")
	missed, answered := stop()
	require.Zero(t, missed, "of %d pings", answered)
	require.Len(t, g.sessions(), 1)
	require.Len(t, g.journal("refused"), 1)
	g.hangUp("home")
	g.stop()
	require.NoError(t, g.side.Process.Signal(os.Interrupt))
	require.NoError(t, g.side.Wait())
	require.Equal(t, g.before, g.traces())
}
