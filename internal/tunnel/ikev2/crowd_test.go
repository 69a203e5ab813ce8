package ikev2

import (
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/plan"
)

// sized is how many there are in a benchmark, and in one that is only to show that it works (go test -short).
func sized(n int) int {
	if testing.Short() {
		return n / 50
	}
	return n
}

// crowded is a gateway with room for many people, who are user00000 and so on.
func crowded(b *testing.B, people int, life time.Duration) *busy {
	w := startBusy(b)
	w.crowd(b, people, life)
	return w
}

// crowd makes the room.
func (w *busy) crowd(b *testing.B, people int, life time.Duration) {
	p := w.set.Plan
	for i := range p.Pools {
		p.Pools[i].Prefixes = []netip.Prefix{netip.PrefixFrom(netip.AddrFrom4([4]byte{172, byte(32 + i), 0, 0}), 16)}
	}
	for i := range p.Tunnels {
		p.Tunnels[i].Own.(*plan.IKEv2).Lifetimes.ESP = plan.Duration(life)
	}
	of := w.people.groups["user00000"]
	for i := range people {
		w.people.groups[fmt.Sprintf("user%05d", i)] = of
	}
	_, err := w.g.Commit(w.set)
	require.NoError(b, err)
}

// logIn logs people in, some at a time, and hands each device to whoever keeps it.
func (b *busy) logIn(t testing.TB, people int, keep func(i int, d *handset)) {
	var all sync.WaitGroup
	slots := make(chan struct{}, 8)
	for i := range people {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			keep(i, b.device(t, fmt.Sprintf("user%05d", i)))
		})
	}
	all.Wait()
}

// memory is what the process holds: on its heap after everything that is not needed is gone, and of the system.
func memory() (heap, system uint64) {
	var m runtime.MemStats
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapAlloc + m.StackInuse, m.Sys - m.HeapReleased
}

// unkept is a test that remembers nothing of its devices: what it would remember is not the gateway's.
type unkept struct{ testing.TB }

// Cleanup forgets it.
func (unkept) Cleanup(func()) {}

// BenchmarkIdle has 10,000 people log in and stay, and tells what the gateway holds for them; their devices are gone from the process by
// then.
func BenchmarkIdle(b *testing.B) {
	people := sized(10_000)
	for b.Loop() {
		w := crowded(b, people, 0)
		before, _ := memory()
		begun := time.Now()
		w.logIn(unkept{b}, people, func(_ int, d *handset) {
			_ = d.conn.Close()
			*d = handset{}
		})
		took := time.Since(begun)
		require.Equal(b, people, len(w.g.Sessions()))
		after, system := memory()
		b.ReportMetric(float64(after-before)/1e6, "MB-of-sessions")
		b.ReportMetric(float64(after-before)/float64(people), "octets/session")
		b.ReportMetric(float64(system)/1e6, "MB-in-all")
		b.ReportMetric(float64(people)/took.Seconds(), "logins/s")
		begun = time.Now()
		w.g.Stop()
		b.ReportMetric(time.Since(begun).Seconds(), "s-stop")
	}
}

// lives keeps a device up until a moment, pings five times a second, and counts what was answered.
func (d *handset) lives(until time.Time) (sent, answered int) {
	src, dst := d.given.Addresses[0], netip.MustParseAddr("10.0.0.53")
	for next := time.Now(); time.Now().Before(until.Add(time.Second)); {
		now := time.Now()
		if now.After(next) && now.Before(until) {
			sent++
			d.send(echo(src, dst, 8, 7, uint16(sent)), d.conn)
			d.perform(d.ini.Tick(now))
			next = next.Add(200 * time.Millisecond)
		}
		if inner, _ := d.read(max(time.Millisecond, min(time.Until(next), 100*time.Millisecond))); len(inner) > 28 && inner[20] == 0 {
			answered++
		}
	}
	return sent, answered
}

// BenchmarkRenewals has the gateway renew the keys for traffic of 1,000 sessions within a minute, while each of them pings.
func BenchmarkRenewals(b *testing.B) {
	people, life, lasting := sized(1000), 40*time.Second, 60*time.Second // the gateway renews when nine tenths are over
	if testing.Short() {
		life, lasting = 4*time.Second, 5*time.Second
	}
	for b.Loop() {
		w := crowded(b, people, life)
		until := time.Now().Add(lasting)
		var sent, answered, renewed atomic.Int64
		var all sync.WaitGroup
		w.logIn(b, people, func(_ int, d *handset) {
			all.Go(func() {
				s, a := d.lives(until)
				sent.Add(int64(s))
				answered.Add(int64(a))
				renewed.Add(int64(d.added))
			})
		})
		all.Wait()
		require.Len(b, w.g.Sessions(), people)
		b.ReportMetric(float64(renewed.Load()), "renewals")
		b.ReportMetric(float64(sent.Load()), "pings")
		b.ReportMetric(float64(sent.Load()-answered.Load()), "lost")
		w.g.Stop()
	}
}

// BenchmarkLoginBeside has devices log in and out one after the other at a gateway with 10,000 standing sessions and at an empty one, in
// turn, and tells how long a login takes at both, with both sides in this process.
func BenchmarkLoginBeside(b *testing.B) {
	people, each := sized(10_000), 100
	empty, full := crowded(b, people+each, 0), crowded(b, people+each, 0)
	full.logIn(b, people, func(_ int, d *handset) {
		_ = d.conn.Close()
		*d = handset{}
	})
	took := func(w *busy) float64 {
		begun := time.Now()
		for i := range each {
			w.device(b, fmt.Sprintf("user%05d", people+i)).end()
		}
		return float64(time.Since(begun).Microseconds()) / float64(each)
	}
	for b.Loop() {
		var alone, beside, ratio []float64
		for range 9 {
			x, y := took(empty), took(full)
			alone, beside, ratio = append(alone, x), append(beside, y), append(ratio, 100*y/x)
		}
		for _, all := range [][]float64{alone, beside, ratio} {
			slices.Sort(all)
		}
		b.ReportMetric(alone[4], "µs-empty")
		b.ReportMetric(beside[4], "µs-beside-10000")
		b.ReportMetric(ratio[4], "%")
		b.ReportMetric(ratio[1], "least-%")
		b.ReportMetric(ratio[7], "most-%")
		b.ReportMetric(0, "ns/op")
	}
}
