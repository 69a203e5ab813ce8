package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
)

// ask makes a call of the API that is not JSON.
func askAPI(t *testing.T, ctx context.Context, url, token string) *http.Response {
	req, err := http.NewRequestWithContext(ctx, "GET", url, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { _ = resp.Body.Close() })
	return resp
}

// Whoever watches sees sessions with what they carry, and lines of the journal as they are written; a session that is sent nothing back
// is flagged; flows are counted, there and back, as they leave; what ended is kept; events go to the webhook; metrics tell it all.
func TestWatching(t *testing.T) {
	hooked := make(chan gateway.Event, 20)
	listener := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var e gateway.Event
		if r.Header.Get("Authorization") != "Bearer of news" || json.NewDecoder(r.Body).Decode(&e) != nil {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		hooked <- e
	}))
	t.Cleanup(listener.Close)
	d := island(t, func(o *instance.Options) {
		o.Webhook = &instance.Webhook{URL: listener.URL, Token: "of news", Kinds: []string{"ended"}}
	})
	x := newTerminal(t, d)
	tn := connect(t, d, "wanda.warden")
	require.NoError(t, ping(t, tn, "198.51.100.80"))

	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	stream := bufio.NewScanner(askAPI(t, ctx, d.URL()+"/api/v1/watch", d.Client.Token).Body)
	stream.Buffer(nil, 1<<20)
	event := func(kind string, holds func(data string) bool) {
		now := ""
		for stream.Scan() {
			line := stream.Text()
			if name, ok := strings.CutPrefix(line, "event: "); ok {
				now = name
			} else if data, ok := strings.CutPrefix(line, "data: "); ok && now == kind && holds(data) {
				return
			}
		}
		t.Fatalf("no such %s event: %v", kind, stream.Err())
	}
	pinging, stop := context.WithCancel(t.Context())
	defer stop()
	go func() { // to where the plan leads and nobody answers
		for pinging.Err() == nil {
			bounded, end := context.WithTimeout(pinging, 200*time.Millisecond)
			_, _ = tn.Stack.Ping(bounded, mustAddr("198.51.100.99"), tn.Send)
			end()
		}
	}()
	event("sessions", func(data string) bool {
		var s watching.Sessions
		require.NoError(t, json.Unmarshal([]byte(data), &s))
		return len(s.Sessions) == 1 && len(s.Sessions[0].Traffic) > 1 && strings.Contains(s.Sessions[0].Flag, "nothing comes back")
	})
	stop()
	flows, err := client.Get[[]forward.Flow](t.Context(), d.Client, "/flows?user=wanda.warden&peer=198.51.100.80")
	require.NoError(t, err)
	require.Len(t, flows, 1)
	require.Equal(t, "192.0.2.10", flows[0].Leaves)
	require.Equal(t, []uint64{1, 1}, []uint64{flows[0].Sent, flows[0].Got})
	require.Equal(t, "wardens-out", flows[0].Rule)
	asking, enough := context.WithTimeout(t.Context(), 1500*time.Millisecond) // one flow, asked again and again
	_, err = tn.Stack.Ping(asking, mustAddr("198.51.100.99"), tn.Send)
	enough()
	require.Error(t, err)
	lost, err := client.Get[[]forward.Flow](t.Context(), d.Client, "/flows?peer=198.51.100.99")
	require.NoError(t, err)
	require.NotEmpty(t, lost)
	require.Equal(t, "sent, and nothing comes back: it left the gateway for internet", lost[0].Words, "%+v", lost[0])
	j, err := client.Get[proofs.JourneyAnswer](t.Context(), d.Client, "/journey?from=wanda.warden&to=198.51.100.80&service=ping")
	require.NoError(t, err)
	require.Len(t, j.Flows, 1)
	require.Contains(t, j.Live, "1 such flows are open")

	require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/sessions?user=wanda.warden", nil, nil))
	event("journal", func(data string) bool { return strings.Contains(data, "ended by administrator admin") })
	select {
	case e := <-hooked:
		require.Equal(t, "wanda.warden", e.User)
	case <-time.After(5 * time.Second):
		t.Fatal("the webhook heard nothing")
	}
	out, _, err := x.run("--json", "sessions", "past")
	require.NoError(t, err)
	require.Contains(t, out, "ended by administrator admin")
	out, _, err = x.run("journal", "--text", "ENDED by administrator")
	require.NoError(t, err)
	require.Contains(t, out, "wanda.warden")
	out, _, err = x.run("journal", "--text", "100%_!")
	require.NoError(t, err)
	require.NotContains(t, out, "wanda")

	resp := askAPI(t, ctx, d.URL()+"/api/v1/metrics", d.Client.Token)
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	for _, line := range []string{
		`yellow_lantern_expectation_results{outcome="holds"} 22`, "yellow_lantern_revision 1",
		`yellow_lantern_pool_addresses_leased{gateway="jetty",pool="staff"} 0`, `yellow_lantern_inside_ok{gateway="jetty",port="site-lab"} 1`, `yellow_lantern_rule_flows_total{gateway="jetty",rule="wardens-out"}`,
	} {
		require.Contains(t, string(b), line)
	}
	require.Equal(t, http.StatusUnauthorized, askAPI(t, ctx, d.URL()+"/api/v1/metrics", "nobody").StatusCode)
}

// A recording holds a session's packets on both sides of the gateway, translated and not, with what became of those that were lost; an
// independent packet analyser reads it. It ends at its limits.
func TestRecording(t *testing.T) {
	if _, err := exec.LookPath("tshark"); err != nil {
		t.Skip("tshark is missing: make test installs it")
	}
	d := island(t, nil)
	x := newTerminal(t, d)
	tn := connect(t, d, "wanda.warden")
	file := filepath.Join(t.TempDir(), "wanda.pcapng")
	done := make(chan error, 1)
	go func() {
		_, _, err := x.run("sessions", "record", "wanda.warden", "--out", file, "--for", "3s")
		done <- err
	}()
	for _, dst := range []string{"198.51.100.80", "10.20.0.20"} {
		require.Eventually(t, func() bool { return ping(t, tn, dst) == nil }, 20*time.Second, 50*time.Millisecond)
	}
	for range 20 {
		short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		_, _ = tn.Stack.Ping(short, mustAddr("10.20.40.10"), tn.Send)
		cancel()
		_ = ping(t, tn, "198.51.100.80")
	}
	require.NoError(t, <-done)
	rows := func(filter string) []string {
		out, err := exec.Command("tshark", "-r", file, "-Y", filter, "-T", "fields", "-e", "frame.interface_name", "-e", "ip.src", "-e",
			"ip.dst", "-e", "frame.comment").Output()
		require.NoError(t, err)
		return strings.Split(strings.TrimSpace(string(out)), "\n")
	}
	require.Empty(t, rows("_ws.malformed")[0])
	mine := tn.Address4().String()
	require.Contains(t, rows("icmp"), "tunnel\t"+mine+"\t198.51.100.80\t")
	require.Contains(t, rows("icmp"), "inside\t192.0.2.10\t198.51.100.80\t")
	require.Contains(t, rows("icmp"), "inside\t198.51.100.80\t192.0.2.10\t")
	require.Contains(t, rows("icmp"), "tunnel\t198.51.100.80\t"+mine+"\t")
	require.Contains(t, rows("ip.dst==10.20.40.10"), "tunnel\t"+mine+"\t10.20.40.10\tlost at rules by rules/hands-off-the-turbine")
	require.Empty(t, rows(`ip.dst==10.20.40.10 && frame.interface_name=="inside"`)[0])

	_, code, err := x.run("sessions", "record", "wanda.warden", "--out", file)
	require.Equal(t, cli.ExitUsage, code, "nothing is written over: %v", err)
	_, code, _ = x.run("sessions", "record", "nobody", "--out", file+"2")
	require.Equal(t, cli.ExitRefused, code)
	require.NoFileExists(t, file+"2")
	out, _, _ := x.run("journal", "--kind", "record")
	require.Contains(t, out, "administrator admin records this session's packets")
}
