package ikev2

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
)

// cores are those that this process has.
var cores = runtime.GOMAXPROCS(0)

// BenchmarkPauses pings through a standing session 500 times a second while 10,000 others stand, of which each sends now and then, some
// 20,000 packets a second together, and something happens to the gateway. It tells the 99.9th percentile of the pings' delay, the longest
// one, and how many pings and packets were lost; the first case is of a gateway to which nothing happens.
func BenchmarkPauses(b *testing.B) {
	people := sized(10_000)
	b.Cleanup(func() { runtime.GOMAXPROCS(cores) })
	runtime.GOMAXPROCS(cores + 1) // as the program does
	socks := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{}))
	b.Cleanup(socks.Close)
	side := &mirror{}
	w := startWith(b, socks, side)
	side.g.Store(w.g)
	w.crowd(b, people, 0)
	from, devices := make([]sender, people), make([]*handset, people)
	w.logIn(b, people, func(i int, d *handset) {
		s := &stream4{src: d.given.Addresses[0], dst: names, port: 40000, to: 9}
		from[i] = sender{d.conn, net.UDPAddrFromAddrPort(d.natt), espSeals(b, d.sealer, s)}
		devices[i] = d
	})
	require.Len(b, w.g.Sessions(), people)
	d, others := devices[0], from[2:]
	var sent atomic.Uint64
	load := func() func() {
		feed := fromMany(b, others, 1, 200, true)
		return while(func() {
			for range 20 {
				feed()
				sent.Add(1)
			}
			time.Sleep(time.Millisecond)
		})
	}
	for _, c := range []struct {
		name    string
		lasting time.Duration
		do      func() (stop func())
	}{
		{"quiet", 3 * time.Second, func() func() { return func() {} }},
		{"commits", 3 * time.Second, func() func() {
			return while(func() { must(w.g.Commit(w.set)); time.Sleep(200 * time.Millisecond) })
		}},
		{"500-logins-a-second", 3 * time.Second, func() func() {
			n := 0
			tick := time.NewTicker(2 * time.Millisecond)
			stop := while(func() { <-tick.C; n++; w.device(b, fmt.Sprintf("user%05d", n%people)).end() })
			return func() { stop(); tick.Stop() }
		}},
		{"one-sends-60000-a-second", 3 * time.Second, func() func() {
			feed := fromMany(b, from[1:2], burst, 1400, true)
			tick := time.NewTicker(burst * time.Second / 60_000)
			stop := while(func() { <-tick.C; sent.Add(uint64(feed())) })
			return func() { stop(); tick.Stop() }
		}},
		{"1000-keys-renewed", 3 * time.Second, func() func() {
			renews := devices[len(devices)-sized(1000):]
			others = others[:len(others)-len(renews)] // what they would send by older keys is nobody's
			var all sync.WaitGroup
			for _, x := range renews {
				all.Go(func() {
					time.Sleep(time.Duration(rand.Int64N(int64(2 * time.Second))))
					x.ini.Worn(x.given.Child.In, esp.Worn)
					x.perform(x.ini.Tick(time.Now()))
					for end := time.Now().Add(10 * time.Second); x.added == 0 && time.Now().Before(end); {
						x.read(time.Second)
						x.perform(x.ini.Tick(time.Now()))
					}
				})
			}
			return func() {
				all.Wait()
				renewed := 0
				for _, x := range renews {
					renewed += x.added
				}
				if renewed < len(renews) {
					b.Errorf("%d of %d were renewed", renewed, len(renews))
				}
			}
		}},
		{"journal-stands", 3 * time.Second, func() func() { w.people.slow.Lock(); return w.people.slow.Unlock }},
		{"200000-flows-expire", 38 * time.Second, func() func() {
			for i := range sized(200_000) { // pings of other identifiers: they are forgotten after 30 s
				x := devices[1+i%50]
				x.send(echo(x.given.Addresses[0], names, 8, uint16(i/50), 1), x.conn)
				if i%200 == 0 {
					time.Sleep(time.Millisecond)
				}
			}
			b.ReportMetric(float64(w.g.Status().Flows), "flows")
			return func() { b.ReportMetric(float64(w.g.Status().Flows), "flows-left") }
		}},
		{"5000-sessions-end", 3 * time.Second, func() func() {
			others = others[people/2:]
			done := make(chan struct{})
			time.AfterFunc(time.Second, func() {
				defer close(done)
				kept := map[netip.Addr]bool{d.given.Addresses[0]: true}
				for _, x := range devices[1+people/2:] {
					kept[x.given.Addresses[0]] = true
				}
				for _, s := range w.g.Sessions() {
					if a, err := netip.ParseAddr(s.Addresses[0].String()); err == nil && !kept[a] {
						_ = w.g.End(must(session.ParseID(s.ID)), reason.Of(reason.TrialOver, nil))
					}
				}
			})
			return func() { <-done; b.ReportMetric(float64(len(w.g.Sessions())), "sessions-left") }
		}},
	} {
		if testing.Short() {
			c.lasting = min(c.lasting, time.Second)
		}
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				stop := c.do()
				time.Sleep(100 * time.Millisecond)
				first, before := sent.Load(), w.g.Status().Rules["ping-names"].Packets
				end := load()
				ds, lost := d.delays(b, c.lasting)
				end()
				stop()
				time.Sleep(200 * time.Millisecond)
				through := w.g.Status().Rules["ping-names"].Packets - before
				b.ReportMetric(float64(ds[len(ds)/2].Microseconds())/1000, "p50-ms")
				b.ReportMetric(float64(ds[len(ds)*999/1000].Microseconds())/1000, "p99.9-ms")
				b.ReportMetric(float64(ds[len(ds)-1].Microseconds())/1000, "longest-ms")
				b.ReportMetric(float64(lost), "pings-lost")
				b.ReportMetric(float64(sent.Load()-first)+float64(len(ds)+lost)-float64(through), "packets-lost")
				b.ReportMetric(float64(sent.Load()-first)/c.lasting.Seconds(), "packets/s")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
