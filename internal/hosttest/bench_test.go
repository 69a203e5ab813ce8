package hosttest

import (
	"crypto/aes"
	"crypto/cipher"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

const flowSize = 60_000_000 // octets that each flow carries

// One TCP flow and eight, down and up, from a laptop through yl dial, home router, gateway and ridge router to the archive; beside them the
// same transfer from the office, which kernels alone carry, and bare AES-256-GCM over as many packets of 1,320 octets on one core. All in
// one run: go test -run '^$' -bench Flows -benchtime 1x ./internal/hosttest
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
	for _, c := range []struct {
		name, host, what string
		flows            int
	}{
		{"kernels-alone/down", "office", down, 1},
		{"kernels-alone/up", "office", up, 1},
		{"tunnel/1-down", home, down, 1},
		{"tunnel/8-down", home, down, 8},
		{"tunnel/1-up", home, up, 1},
		{"tunnel/8-up", home, up, 8},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				begun := time.Now()
				g.on(c.host, "sh", "-c", fmt.Sprintf("for i in $(seq %d); do %s & done; wait", c.flows, c.what))
				b.ReportMetric(float64(c.flows)*flowSize*8/time.Since(begun).Seconds()/1e6, "Mbit/s")
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
			b.ReportMetric(flowSize*8/time.Since(begun).Seconds()/1e6, "Mbit/s")
		}
	})
}
