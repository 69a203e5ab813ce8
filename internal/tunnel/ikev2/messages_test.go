package ikev2

import (
	"encoding/binary"
	"net"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/testkit/rough"
)

// A device whose IKE message has several thousand octets is answered: by UDP on both ports.
func TestLargeMessages(t *testing.T) {
	w := startBusy(t)
	d := w.device(t, "user00000")
	for _, size := range []int{3000, 9000, 40000} {
		require.True(t, d.alive(size), "%d octets", size)
	}
}

// A device takes its only Child SA away: its session stays, carries nothing, and may have another Child SA.
func TestSessionWithoutAChild(t *testing.T) {
	w := startBusy(t)
	d := w.device(t, "user00000")
	ds, lost := d.delays(t, 100*time.Millisecond)
	require.NotEmpty(t, ds)
	require.Zero(t, lost)
	w.server.mu.Lock()
	for _, l := range w.server.links {
		w.server.perform([]ike.Output{ike.Dropped{ID: l.id, In: l.pairs[0].opener.SPI}})
	}
	w.server.mu.Unlock()
	ds, _ = d.delays(t, 50*time.Millisecond)
	require.Empty(t, ds)
	require.Len(t, w.g.Sessions(), 1)
	w.g.FromInside([]inside.Packet{inside.Bare(echo(netip.MustParseAddr("10.0.0.53"), d.given.Addresses[0], 0, 7, 1))}, false)
}

// Sessions come and go while their packets still come: nothing is counted where it is being read, and nothing passes afterwards.
func TestEndsUnderTraffic(t *testing.T) {
	w := startBusy(t)
	for range 5 {
		d := w.device(t, "user00000")
		var wait sync.WaitGroup
		stop := make(chan struct{})
		wait.Go(func() {
			for n := uint16(0); ; n++ {
				select {
				case <-stop:
					return
				default:
					d.send(echo(d.given.Addresses[0], netip.MustParseAddr("10.0.0.99"), 8, 7, n), d.conn) // refused: counted as lost
				}
			}
		})
		time.Sleep(20 * time.Millisecond)
		id := must(session.ParseID(w.g.Sessions()[0].ID))
		require.NoError(t, w.g.End(id, reason.Of(reason.TrialOver, nil)))
		time.Sleep(5 * time.Millisecond)
		close(stop)
		wait.Wait()
		require.Empty(t, w.g.Sessions())
		require.Zero(t, w.g.Status().Flows)
	}
}

// A device's address follows its newest packet: an older one that comes late by another way does not move it back (RFC 4303 has sequence
// numbers, RFC 7296 §2.23 wants the address of the last authentic packet).
func TestAddressFollowsTheNewest(t *testing.T) {
	w := startBusy(t)
	d := w.device(t, "user00000")
	other := must(net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}))
	defer other.Close()
	seen := func() string { return w.g.Sessions()[0].From }
	at := func(c *net.UDPConn) func() bool {
		return func() bool { return seen() == c.LocalAddr().String() }
	}
	ping := echo(d.given.Addresses[0], netip.MustParseAddr("10.0.0.53"), 8, 7, 1)
	held := slices.Clone(d.seal(ping)) // sent later, by the old way
	d.send(ping, other)
	require.Eventually(t, at(other), 2*time.Second, time.Millisecond)
	_, err := d.conn.WriteToUDPAddrPort(held, d.natt)
	require.NoError(t, err)
	require.Never(t, at(d.conn), 100*time.Millisecond, 5*time.Millisecond)
	require.EqualValues(t, 3, w.g.Sessions()[0].InPackets+1, "the late packet is taken all the same")
	d.send(ping, d.conn)
	require.Eventually(t, at(d.conn), 2*time.Second, time.Millisecond, "a newer one does")
}

// Whoever copies a device's packets before they arrive, or a device that writes another's address as its own, has little of its traffic go
// there: no more than the room for it, however often it turns up there; and the device itself goes on as before.
func TestLittleGoesToAnUnprovedPlace(t *testing.T) {
	w := startBusy(t)
	d := w.device(t, "user00000")
	var l *link
	w.server.mu.Lock()
	for _, x := range w.server.links {
		l = x
	}
	w.server.mu.Unlock()
	victim := must(net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}))
	defer victim.Close()
	require.NoError(t, victim.SetReadBuffer(8<<20))
	ping := echo(d.given.Addresses[0], netip.MustParseAddr("10.0.0.53"), 8, 7, 1)
	large := make([]byte, 1300)
	copy(large, echo(netip.MustParseAddr("10.0.0.53"), d.given.Addresses[0], 0, 7, 1))
	binary.BigEndian.PutUint16(large[2:], uint16(len(large)))
	flood := func(octets int) {
		for sent := 0; sent < octets; sent += len(large) {
			l.Send(inside.Bare(large))
		}
	}
	for range 3 { // again and again
		d.send(ping, victim)
		require.Eventually(t, l.unproved.Load, 2*time.Second, time.Millisecond)
		flood(2 * roomMost)
		d.send(ping, d.conn)
		require.Eventually(t, func() bool { return d.alive(0) && !l.unproved.Load() }, 5*time.Second, 10*time.Millisecond,
			"the device's answer shows that it is where it was")
	}
	require.NotZero(t, w.server.Counters()["to where the device is not shown to be"])
	got, b := 0, make([]byte, 1<<16)
	require.NoError(t, victim.SetReadDeadline(time.Now().Add(200*time.Millisecond)))
	for {
		n, err := victim.Read(b)
		if err != nil {
			break
		}
		got += n
	}
	require.Positive(t, got)
	require.Less(t, got, roomMost*3/2)
	before := w.server.Counters()["to where the device is not shown to be"]
	flood(2 * roomMost)
	require.Equal(t, before, w.server.Counters()["to where the device is not shown to be"], "where it is shown to be everything goes")
}

// On a host with several addresses the answer leaves from the one that was dialled, also where the socket is bound to all of them.
func TestAnswersFromTheAddressDialled(t *testing.T) {
	for _, c := range []struct{ listen, network string }{{"0.0.0.0:0", "udp4"}, {"[::]:0", "udp"}} {
		s := must(Listen(c.listen, c.listen, How{}))
		t.Cleanup(s.Close)
		w := startOn(t, s)
		for _, dialled := range []string{"127.0.0.1", "127.0.0.77"} {
			d := newDevice(t, s, w.set.Plan.Gateways[0].Dial, "user00000", password)
			d.ike = netip.AddrPortFrom(netip.MustParseAddr(dialled), s.IKE().Port())
			d.natt = netip.AddrPortFrom(netip.MustParseAddr(dialled), s.NATT().Port())
			require.NoError(t, d.login(), "%s by %s", dialled, c.listen)
			require.Equal(t, []netip.Addr{netip.MustParseAddr(dialled)}, d.heardFrom, c.listen)
			ds, _ := d.delays(t, 300*time.Millisecond)
			require.NotEmpty(t, ds)
			require.Equal(t, []netip.Addr{netip.MustParseAddr(dialled)}, d.heardFrom, "traffic as well")
			d.end()
		}
	}
}

func lengthOf(b []byte) []byte { return binary.BigEndian.AppendUint16(nil, uint16(len(b)+lengthLen)) }

// Over TCP an IKE message may have as many octets as its length can say (RFC 9329 §3).
func TestLargeMessagesOverTCP(t *testing.T) {
	w := startBusy(t)
	d := w.device(t, "user00000")
	ln := must(net.Listen("tcp4", "127.0.0.1:0"))
	w.server.streams.mu.Lock()
	w.server.streams.listeners[1] = ln
	w.server.streams.mu.Unlock()
	w.server.streams.wait.Go("test", func() { w.server.accept(ln, 1) })
	c := must(net.Dial("tcp4", ln.Addr().String()))
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(5 * time.Second))
	_, _ = c.Write([]byte(streamPrefix))
	for _, size := range []int{3000, ike.MaxMessage} {
		data := append(make([]byte, markerLen), d.ini.AliveOf(time.Now(), size)[0].(ike.Send).Data...)
		_, err := c.Write(append(lengthOf(data), data...))
		require.NoError(t, err)
		buf := make([]byte, 4096)
		n, err := c.Read(buf)
		require.NoError(t, err, "%d octets", size)
		d.perform(d.ini.Handle(time.Now(), buf[lengthLen+markerLen:n]))
		require.False(t, d.ini.Waiting())
	}
}

// The gateway renews both kinds of associations while traffic goes on, and not one ping is lost.
func TestRenewalsUnderTraffic(t *testing.T) {
	s := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{}))
	t.Cleanup(s.Close)
	w := startOn(t, s)
	w.set.Plan.Tunnels[0].IKEv2().Lifetimes = plan.Lifetimes{IKE: plan.Duration(9 * time.Second), ESP: plan.Duration(5 * time.Second)}
	must(w.g.Commit(w.set))
	d := w.device(t, "user00000")
	ds, lost := d.delays(t, 13*time.Second) // a tenth of each is left for its renewal, on a slow machine as well
	require.Greater(t, len(ds), 200)        // on a slow machine
	require.Zero(t, lost, "dropped: %v, missing: %v", w.g.Status().Dropped, w.g.Sessions())
	require.GreaterOrEqual(t, d.added, 2, "Child SAs were renewed")
	require.Len(t, w.g.Sessions(), 1, "and the session lasts longer than any of its keys")
	require.LessOrEqual(t, len(d.opener), 2)
	require.NoError(t, d.err)
}

// A device that has answered our renewal may send by the new association at once, and its packets may overtake the answer: they are kept.
func TestPacketsBeforeTheAnswer(t *testing.T) {
	w := startBusy(t)
	w.set.Plan.Tunnels[0].IKEv2().Lifetimes.ESP = plan.Duration(8 * time.Second)
	must(w.g.Commit(w.set))
	d := w.device(t, "user00000")
	d.lagging = true
	for end := time.Now().Add(15 * time.Second); d.added == 0 && time.Now().Before(end); {
		d.read(100 * time.Millisecond)
	}
	require.Equal(t, 1, d.added, "the gateway renews")
	d.ready()
	const pings = 20
	for n := range uint16(pings) {
		d.send(echo(d.given.Addresses[0], netip.MustParseAddr("10.0.0.53"), 8, 7, n), d.conn)
	}
	time.Sleep(50 * time.Millisecond)
	d.lagging = false
	for _, send := range d.lag {
		send()
	}
	answered := 0
	for end := time.Now().Add(3 * time.Second); answered < pings && time.Now().Before(end); {
		if inner, _ := d.read(100 * time.Millisecond); len(inner) > 28 {
			answered++
		}
	}
	require.Equal(t, pings, answered)
}

// Callers over TCP that reset, stop in the middle, send garbage or nothing leave the gateway as it was: somebody else is answered, and
// their connections are gone.
func TestRoughCallersOverTCP(t *testing.T) {
	w := startBusy(t)
	d := w.device(t, "user00000")
	ln := must(net.Listen("tcp4", "127.0.0.1:0"))
	w.server.streams.mu.Lock()
	w.server.streams.listeners[1] = ln
	w.server.streams.mu.Unlock()
	w.server.streams.wait.Go("test", func() { w.server.accept(ln, 1) })
	valid := []byte(streamPrefix)
	message := append(make([]byte, markerLen), d.ini.AliveOf(time.Now(), 300)[0].(ike.Send).Data...)
	for range 3 { // IKE, and what is ESP of nobody
		valid = append(append(valid, append(lengthOf(message), message...)...), 0, 8, 1, 2, 3, 4, 5, 6)
	}
	rough.Callers(func() (net.Conn, error) { return net.Dial("tcp4", ln.Addr().String()) }, valid, 600)
	require.Empty(t, guard.Panics())
	d.perform(d.ini.Handle(time.Now(), nil))
	require.Len(t, w.g.Sessions(), 1)
	_, lost := d.delays(t, 300*time.Millisecond)
	require.Zero(t, lost)
	require.Eventually(t, func() bool {
		w.server.streams.mu.Lock()
		defer w.server.streams.mu.Unlock()
		return len(w.server.streams.conns) == 0 && w.server.streams.strangers.All() == 0
	}, 20*time.Second, 20*time.Millisecond)
}
