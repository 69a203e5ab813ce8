package hosttest

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/hosts"
)

// The service is killed and starts again while a hundred devices log in: all of them come in, and nobody is told anything wrong. Those
// whose password was just being judged are told that it is for later, and begin anew; of what they left behind, nothing stays beside that.
func TestRestartDuringLogins(t *testing.T) {
	const people = 100
	const routes = "    routes: {split: [station, archive]}\n"
	g := installAs(t, "w1", true, routes, routes+"    limits: {per-person: 200}\n")
	crowd := g.in("crowd")
	build := exec.Command("go", "build", "-o", crowd, "yellowlantern/internal/testkit/crowd")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	kit := g.kit("rory.researcher")
	cmd := g.Command(t.Context(), hosts.Laptop("home"), crowd, "100", kit, g.file("rory.researcher"))
	var said, complaint bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &complaint
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	pause := time.Duration(50+rand.IntN(350)) * time.Millisecond // some are still at their first message then, most are not
	t.Logf("killed after %s", pause)
	time.Sleep(pause)
	g.kill(g.run)
	time.Sleep(500 * time.Millisecond)
	g.start()
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "\n") }, time.Minute, 100*time.Millisecond, "%s", &complaint)
	var came struct {
		In      int            `json:"in"`
		Refused map[string]int `json:"refused"`
		Slowest float64        `json:"slowest"`
	}
	require.NoError(t, json.Unmarshal(said.Bytes(), &came))
	require.Empty(t, came.Refused)
	require.Equal(t, people, came.In)
	require.Eventually(t, func() bool { return len(g.sessions()) == people }, 10*time.Second, 200*time.Millisecond, "one for each device")
	for _, line := range g.journal("refused") { // of whom the service was just judging: the device tried again by itself
		require.Equal(t, reason.LoginsLater, line.Code)
	}
	addresses, devices := map[string]bool{}, map[string]bool{}
	for _, s := range g.sessions() {
		devices[s.Device] = true
		for _, a := range s.Addresses {
			addresses[a.String()] = true
		}
	}
	require.Len(t, addresses, 2*people, "each has addresses of their own")
	require.Len(t, devices, people)
	require.GreaterOrEqual(t, len(g.journal("login")), people)
	t.Logf("the slowest login took %.1f s", came.Slowest)
	require.NoError(t, in.Close())
	require.NoError(t, cmd.Wait())
	require.Eventually(t, func() bool { return len(g.sessions()) == 0 }, 10*time.Second, 100*time.Millisecond)
}
