package ike

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/esp"
)

// Each kind of device, as it comes and once it is set up, lives through what devices do: it logs in, sends and receives, renews both kinds
// of keys after as long as its maker says and once more, is asleep for as long as it may be and the passage waits, is on another network
// afterwards, and leaves.
func TestDevicesLive(t *testing.T) {
	for _, p := range devices.Platforms {
		for level, offers := range map[string]algorithm.Set{algorithm.Legacy: p.Default, algorithm.Strict: p.Able} {
			t.Run(p.Word+" at level "+level, func(t *testing.T) {
				u := newUnrulyWith(t, func(w *world) { w.grant.Patience = 45 * time.Minute }, func(s *Settings, c *Caller) {
					s.Algorithms, c.Algorithms = Level(level), must(PolicyOf(offers))
					c.PFS, c.Patience = p.PFS, time.Hour
				})
				traffic := func() {
					g, d := u.bond(true).newest(), u.bond(false).newest()
					up, down := u.in[true][g.in], u.in[false][d.in]
					for _, way := range [][2]Child{{down, up}, {up, down}} {
						seal := must(esp.NewSealer(way[0].Out, way[0].Algorithm, way[0].OutKey))
						open := must(esp.NewOpener(way[1].In, way[1].Algorithm, way[1].InKey))
						inner := append([]byte{0x45}, bytes.Repeat([]byte{7}, 99)...)
						buf := make([]byte, esp.Headroom+len(inner)+esp.Tailroom)
						copy(buf[esp.Headroom:], inner)
						got, _, err := open.Open(must(seal.Seal(buf, esp.Headroom, len(inner))))
						require.NoError(t, err)
						require.Equal(t, inner, got)
					}
				}
				traffic()
				for range 2 {
					before := []uint64{u.bond(true).cur.own(), uint64(u.bond(true).newest().in)}
					u.now = u.now.Add(max(p.RenewsESP, time.Hour))
					u.bond(false).renewChild(u.now, u.bond(false).newest())
					u.take(false, u.i.take())
					u.settle()
					u.now = u.now.Add(max(p.RenewsIKE, time.Hour))
					u.bond(false).renewIKE(u.now)
					u.take(false, u.i.take())
					u.settle()
					u.requireSame(t)
					require.NotEqual(t, before[0], u.bond(true).cur.own())
					require.NotEqual(t, before[1], uint64(u.bond(true).newest().in))
					traffic()
				}

				for range int(max(p.Sleeps, 10*time.Minute) / time.Second) { // asleep: what is sent to it is lost
					u.now = u.now.Add(time.Second)
					u.take(true, u.l.Tick(u.now))
					u.flying = nil
				}
				require.Equal(t, 1, u.l.Sessions(), "it may sleep")
				at := netip.MustParseAddrPort("198.51.100.77:40001")
				if p.Moves {
					outs, ok := u.i.Move(u.now, at)
					require.True(t, ok)
					for _, o := range outs {
						if s, ok := o.(Send); ok {
							u.take(true, u.l.Handle(u.now, Peer{Addr: at, NATT: true}, s.Data))
						}
					}
				}
				require.Equal(t, at, u.bond(true).peer.Addr, "it is followed")
				u.device = Peer{Addr: at, NATT: true}
				u.settle()
				u.requireSame(t)
				traffic()
				u.take(false, u.i.End(u.now))
				for len(u.flying) > 0 {
					u.deliver(0)
				}
				require.Zero(t, u.l.Sessions())
			})
		}
	}
}
