package e2e

import (
	"bytes"
	"crypto/rand"
	"net"
	"net/netip"
	"runtime/pprof"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
)

// breakOff begins a login from an address, and breaks it off once the gateway has shown its certificate and asked for the person: its
// certificate is believed by nobody. It tells whether it came so far.
func breakOff(t *testing.T, from netip.Addr, to netip.AddrPort, natt netip.AddrPort, name string) bool {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0)))
	require.NoError(t, err)
	defer conn.Close()
	offer, err := ike.PolicyOf(algorithm.OfLevel(algorithm.Strict))
	require.NoError(t, err)
	ini, err := ike.NewInitiator(ike.Caller{
		Name: name, User: "nobody", Password: "x", Algorithms: offer, Rand: rand.Reader, Local: conn.LocalAddr().(*net.UDPAddr).AddrPort(), Remote: to,
		Now: time.Now,
	})
	require.NoError(t, err)
	failed := false
	perform := func(outs []ike.Output) {
		for _, o := range outs {
			switch o := o.(type) {
			case ike.Send:
				at, data := to, o.Data
				if o.To.NATT {
					at, data = natt, append(make([]byte, 4), o.Data...)
				}
				_, _ = conn.WriteToUDPAddrPort(data, at)
			case ike.Failed:
				failed = true
			}
		}
	}
	perform(ini.Start(time.Now()))
	buf := make([]byte, 4096)
	for range 8 {
		if failed {
			return true
		}
		_ = conn.SetReadDeadline(time.Now().Add(150 * time.Millisecond))
		n, at, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return failed
		}
		b := buf[:n]
		if at.Port() == natt.Port() {
			b = b[4:]
		}
		perform(ini.Handle(time.Now(), append([]byte{}, b...)))
	}
	return failed
}

// Logins that are begun and broken off, by one source or by many, cost nobody else theirs, and leave nothing behind: what carries a login
// on ends with it.
func TestLoginsBrokenOff(t *testing.T) {
	d := island(t, nil)
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls")
	o := order(t, d, "rory.researcher")
	to := netip.AddrPortFrom(mustAddr("127.0.0.1"), d.Sockets.IKE().Port())
	natt := netip.AddrPortFrom(to.Addr(), d.Sockets.NATT().Port())
	for _, many := range []bool{false, true} {
		var begun, deep atomic.Int64
		stop := make(chan struct{})
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				for {
					select {
					case <-stop:
						return
					default:
					}
					from := mustAddr("127.0.0.66")
					if n := begun.Add(1); many {
						from = netip.AddrFrom4([4]byte{127, 1, byte(n >> 8), byte(n)})
					}
					if breakOff(t, from, to, natt, o.Identity) {
						deep.Add(1)
					}
				}
			})
		}
		for end := time.Now().Add(6 * time.Second); time.Now().Before(end); {
			tn, err := probe.Open(t.Context(), home(t, d), o, probe.Options{Password: d.Passwords["rory.researcher"]})
			require.NoError(t, err, "many sources: %v, %d begun, %d as far as the service", many, begun.Load(), deep.Load())
			tn.Close()
		}
		close(stop)
		all.Wait()
		t.Logf("many sources: %v: %d begun, %d as far as the service", many, begun.Load(), deep.Load())
		if !many {
			require.LessOrEqual(t, deep.Load(), int64(128), "a source has no more of them for breaking off")
		} else {
			require.Greater(t, deep.Load(), min(500, begun.Load()/2), "as many as a slow machine begins")
		}
	}
	held := func() int { // goroutines in which TLS of a login waits for its device
		var stacks bytes.Buffer
		require.NoError(t, pprof.Lookup("goroutine").WriteTo(&stacks, 2))
		return strings.Count(stacks.String(), "eaptls.wire.Read")
	}
	require.Eventually(t, func() bool {
		s, err := client.Get[gateway.Status](t.Context(), d.Client, "/status")
		return err == nil && s.LoggingIn == 0 && held() == 0
	}, time.Minute, 50*time.Millisecond, "what fell silent, where the machine was slow, ends by its time")
}
