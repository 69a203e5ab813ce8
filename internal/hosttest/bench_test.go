package hosttest

import (
	"crypto/aes"
	"crypto/cipher"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

// flowSize is how many octets each flow carries, and rounds how often it is measured.
var flowSize, rounds = 120_000_000, 5

// One TCP flow and eight, down and up, from a laptop through yl dial, home router, gateway and ridge router to the archive; beside them the
// same transfer from the office, which kernels alone carry, by two relays that take what kernels offer for joined packets and seal each by
// AES-256-GCM, by two that put packets into UDP one by one as they are, and bare AES-256-GCM over as many packets of 1,320 octets on one
// core. All in one run, tunnel and relays in turn: go test -run '^$' -bench Flows -benchtime 1x ./internal/hosttest
func BenchmarkFlows(b *testing.B) {
	if testing.Short() {
		flowSize, rounds = 2_000_000, 1
	}
	g := install(b, "b1")
	home := hosts.Laptop("home")
	file := filepath.Join(g.folder, "zeros")
	f, err := os.Create(file)
	require.NoError(b, err)
	require.NoError(b, f.Truncate(int64(flowSize)))
	require.NoError(b, f.Close())
	down := fmt.Sprintf("curl -sS -o /dev/null http://10.20.30.5/large/%d", flowSize/1000)
	up := "curl -sS -T " + file + " http://10.20.30.5/"
	measure := func(host, what, by string, flows int) float64 {
		if by != "" {
			g.on(host, "ip", "route", "replace", "10.20.30.5", "dev", by, "table", "77")
			g.on(host, "ip", "rule", "add", "to", "10.20.30.5", "lookup", "77", "pref", "1000")
			defer g.on(host, "ip", "rule", "del", "pref", "1000")
		}
		begun := time.Now()
		g.on(host, "sh", "-c", fmt.Sprintf("for i in $(seq %d); do %s & done; wait", flows, what))
		return float64(flows*flowSize) * 8 / time.Since(begun).Seconds() / 1e6
	}
	g.stop() // a machine that was a router before lets others through as well, such as the relays
	g.on(hosts.Gateway, "sysctl", "-q", "-w", "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1")
	g.start()
	g.dial("home", "rory.researcher")
	g.relay(home, "joined", 1)
	g.relay(home, "plain", 2)
	ways := []struct{ name, host, by string }{
		{"kernels-alone", "office", ""}, {"tunnel", home, ""}, {"joined-relay", home, "rl1"}, {"plain-relay", home, "rl2"},
	}
	for _, c := range []struct {
		name, what string
		flows      int
	}{{"1-down", down, 1}, {"8-down", down, 8}, {"1-up", up, 1}, {"8-up", up, 8}} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				took, parts := map[string][]float64{}, map[string][]float64{}
				for range rounds {
					now := map[string]float64{}
					for _, w := range ways {
						if now[w.name] = 0; w.name != "plain-relay" || c.flows == 1 { // it is slow
							now[w.name] = measure(w.host, c.what, w.by, c.flows)
						}
						took[w.name] = append(took[w.name], now[w.name])
					}
					parts["tunnel"] = append(parts["tunnel"], 100*now["tunnel"]/now["joined-relay"])
				}
				for name, all := range took {
					if slices.Sort(all); all[0] == 0 {
						continue
					}
					b.ReportMetric(all[rounds/2], name+"-Mbit/s")
				}
				slices.Sort(parts["tunnel"])
				b.ReportMetric(parts["tunnel"][rounds/2], "tunnel-%")
				b.ReportMetric(parts["tunnel"][0], "tunnel-least-%")
				b.ReportMetric(parts["tunnel"][rounds-1], "tunnel-most-%")
			}
		})
	}
	b.Run("bare-aes-256-gcm", func(b *testing.B) {
		block, err := aes.NewCipher(make([]byte, 32))
		require.NoError(b, err)
		gcm, err := cipher.NewGCM(block)
		require.NoError(b, err)
		packet, nonce := make([]byte, 1320, 1400), make([]byte, 12)
		for b.Loop() {
			begun := time.Now()
			for range flowSize / 1320 {
				gcm.Seal(packet[:0], nonce, packet, nil)
			}
			b.ReportMetric(float64(flowSize)*8/time.Since(begun).Seconds()/1e6, "Mbit/s")
		}
	})
}

// relay joins a laptop and the gateway by a relay, beside a tunnel.
func (g *installed) relay(laptop, how string, n int) {
	program := g.in("relay")
	out, err := exec.Command("go", "build", "-o", program, "yellowlantern/internal/testkit/relay").CombinedOutput()
	require.NoError(g.t, err, "%s", out)
	device, port, net := fmt.Sprint("rl", n), fmt.Sprint(4600+n), fmt.Sprintf("10.98.%d.", n)
	_, err = g.Start(g.t.Context(), hosts.Gateway, program, how, device, ":"+port)
	require.NoError(g.t, err)
	_, err = g.Start(g.t.Context(), laptop, program, how, device, ":0", "192.0.2.10:"+port)
	require.NoError(g.t, err)
	time.Sleep(300 * time.Millisecond)
	for host, at := range map[string]string{laptop: net + "2", hosts.Gateway: net + "1"} {
		g.on(host, "sh", "-c", "ip link set "+device+" mtu 1320 up; ip addr add "+at+"/24 dev "+device)
	}
	require.True(g.t, g.pings(laptop, net+"1"))
}
