package e2e

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/cli"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/pcapng"
)

// From a recording of a device's first message it is told what the device is, whether the tunnels would answer it, and what would let it
// in: carried out, that does.
func TestDeviceOffer(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	var b bytes.Buffer
	w, err := pcapng.NewWriter(&b, "yl", pcapng.Interface{Name: "outside"})
	require.NoError(t, err)
	to := netip.MustParseAddrPort("192.0.2.10:500")
	for n, p := range devices.Platforms {
		offers, err := ike.PolicyOf(p.Default)
		require.NoError(t, err)
		from := netip.AddrPortFrom(netip.MustParseAddr("203.0.113.45"), uint16(40000+n))
		i, err := ike.NewInitiator(ike.Caller{
			Name: "gate.tern.example", User: "rory", Algorithms: offers, Rand: rand.Reader, Local: from, Remote: to, Now: time.Now,
		})
		require.NoError(t, err)
		first := packet.UDP(from, to, i.Start(time.Now())[0].(ike.Send).Data)
		for range 2 { // it is sent again
			require.NoError(t, w.Write(pcapng.Packet{At: time.Now(), Data: first}))
		}
	}
	path := filepath.Join(t.TempDir(), "devices.pcapng")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	read := func(more ...string) (out []cli.Offered) {
		text, _, err := x.run(append([]string{"--json", "device", "offer", path}, more...)...)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal([]byte(text), &out))
		require.Len(t, out, len(devices.Platforms))
		return out
	}
	for n, o := range read() {
		p := devices.Platforms[n]
		require.Len(t, o.Like, 1)
		require.Contains(t, o.Like[0], p.Name)
		require.Equal(t, p.Word == "android" || p.Word == "own-client", o.Held[0].Answered, p.Name)
	}
	from := []string{}
	for n := range devices.Platforms {
		for _, e := range read(from...)[n].Held[0].Edits {
			_, _, err := x.run("plan", e.Op, e.Path, e.Value)
			require.NoError(t, err)
		}
		from = []string{"--draft", "draft"}
		o := read(from...)[n]
		require.True(t, o.Held[0].Answered, "%v", o.Like)
	}
	for _, o := range read("--level", "legacy") {
		require.True(t, o.Held[0].Answered)
	}
	out, _, err := x.run("device", "offer", path, "--filter", "Windows")
	require.NoError(t, err)
	require.Contains(t, out, "Set-VpnConnectionIPsecConfiguration")
	require.Contains(t, out, "MODP-1024, which no longer withstands attacks")
	for what, says := range map[string]string{"no recording": "PCAP or PCAPNG", string(b.Bytes()[:100]): "no first message"} {
		bad := filepath.Join(t.TempDir(), "bad")
		require.NoError(t, os.WriteFile(bad, []byte(what), 0o600))
		_, _, err := x.run("device", "offer", bad)
		require.ErrorContains(t, err, says)
	}
	_, code, _ := x.run("device", "offer", path, "--level", "best")
	require.Equal(t, cli.ExitUsage, code)
}
