package hosttest

import (
	"crypto/aes"
	"crypto/cipher"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

const flowSize = 60_000_000 // octets that each flow carries

// One TCP flow and eight, down and up, from a laptop through yl dial, home router, gateway and ridge router to the archive; beside them the
// same transfer from the office, which kernels alone carry, by a relay that puts the same packets into UDP one by one as they are, and bare
// AES-256-GCM over as many packets of 1,320 octets on one core. All in one run:
// go test -run '^$' -bench Flows -benchtime 1x ./internal/hosttest
func BenchmarkFlows(b *testing.B) {
	g := install(b, "b1")
	home := hosts.Laptop("home")
	g.dial("home", "rory.researcher")
	file := filepath.Join(g.folder, "zeros")
	f, err := os.Create(file)
	require.NoError(b, err)
	require.NoError(b, f.Truncate(flowSize))
	require.NoError(b, f.Close())
	down := fmt.Sprintf("curl -sS -o /dev/null http://10.20.30.5/large/%d", flowSize/1000)
	up := "curl -sS -T " + file + " http://10.20.30.5/"
	measure := func(name, host, what string, flows int) {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				begun := time.Now()
				g.on(host, "sh", "-c", fmt.Sprintf("for i in $(seq %d); do %s & done; wait", flows, what))
				b.ReportMetric(float64(flows)*flowSize*8/time.Since(begun).Seconds()/1e6, "Mbit/s")
			}
		})
	}
	measure("kernels-alone/1-down", "office", down, 1)
	measure("kernels-alone/1-up", "office", up, 1)
	four := func(name string) {
		measure(name+"/1-down", home, down, 1)
		measure(name+"/8-down", home, down, 8)
		measure(name+"/1-up", home, up, 1)
		measure(name+"/8-up", home, up, 8)
	}
	four("tunnel")
	g.hangUp("home")
	g.stop()
	g.relay(home)
	four("relay")
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
			b.ReportMetric(flowSize*8/time.Since(begun).Seconds()/1e6, "Mbit/s")
		}
	})
}

// relay joins a laptop and the gateway by a relay, in place of a tunnel.
func (g *installed) relay(laptop string) {
	program := g.in("relay")
	out, err := exec.Command("go", "build", "-o", program, "yellowlantern/internal/testkit/relay").CombinedOutput()
	require.NoError(g.t, err, "%s", out)
	_, err = g.Start(g.t.Context(), hosts.Gateway, program, "rl0", ":4500")
	require.NoError(g.t, err)
	_, err = g.Start(g.t.Context(), laptop, program, "rl0", ":0", "192.0.2.10:4500")
	require.NoError(g.t, err)
	time.Sleep(300 * time.Millisecond)
	const up = "ip link set rl0 mtu 1320 up; ip addr add "
	g.on(laptop, "sh", "-c", up+"10.98.0.2/24 dev rl0; ip route add 10.20.30.0/24 dev rl0 src 10.98.0.2")
	g.on(hosts.Gateway, "sh", "-c", up+"10.98.0.1/24 dev rl0; sysctl -q -w net.ipv4.ip_forward=1; ip route replace 10.20.30.0/24 via 10.20.0.2")
	require.True(g.t, g.pings(laptop, "10.20.30.5"))
}
