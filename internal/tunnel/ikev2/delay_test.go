package ikev2

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/testkit/bigplan"
)

const password = "tide 4 tern and wind"

// folk is people who all have one password, kept by something that can be slow.
type folk struct {
	groups map[string][]string
	hash   [16]byte
	slow   sync.RWMutex // held for writing: whoever asks waits
	later  atomic.Int32 // how many steps nobody judges yet
}

func (c *folk) Begin(call login.Call) login.Conversation {
	return &talk{c, eap.Converse(eap.ByMSCHAPv2(rand.Reader, call.Server, func(k eap.Check) eap.Verdict {
		c.slow.RLock()
		defer c.slow.RUnlock()
		return k.Judge(c.hash)
	}))}
}

// talk adds the person's groups to a login.
type talk struct {
	c *folk
	login.Conversation
}

func (t *talk) Next(message []byte) login.Step {
	if t.c.later.Add(-1) >= 0 {
		return login.Step{Over: true, Later: true, Outcome: login.Outcome{Why: reason.Of(reason.LoginsLater, nil)}}
	}
	step := t.Conversation.Next(message)
	if step.OK {
		now, _ := t.c.Standing(context.Background(), step.User)
		step.Groups = now.Groups
	}
	return step
}

func (*folk) Code(context.Context, login.Code) login.Outcome { return login.Outcome{} }

func (*folk) Coded(context.Context, login.Coded) time.Time { return time.Time{} }

func (c *folk) Standing(_ context.Context, user string) (login.Standing, error) {
	c.slow.RLock()
	defer c.slow.RUnlock()
	return login.Standing{Groups: c.groups[user]}, nil
}

func (c *folk) Owner(context.Context, login.Key) login.Outcome { return login.Outcome{} }

func (c *folk) Shared(context.Context, login.SharedKey) login.Shared { return login.Shared{} }

func (c *folk) Again(ctx context.Context, user, _ string) (login.Standing, error) {
	return c.Standing(ctx, user)
}

// busy is a gateway with the plan of 2,000 rules on loopback, and what can be done to it.
type busy struct {
	g      *gateway.Gateway
	people *folk
	set    gateway.Settings
	socks  *Sockets
	server *server
	logins atomic.Int64
}

// spied is a kind whose server can be looked at.
type spied struct {
	Kind
	b *busy
}

func (b *busy) spy(k Kind) tunnel.Kind { return spied{k, b} }

// Serve begins to serve.
func (s spied) Serve(h tunnel.Host) tunnel.Server {
	s.b.server = s.Kind.Serve(h).(*server)
	return s.b.server
}

func startBusy(t testing.TB) *busy {
	s := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{}))
	t.Cleanup(s.Close)
	return startOn(t, s)
}

func startOn(t testing.TB, s *Sockets) *busy {
	in := &mirror{}
	b := startWith(t, s, in)
	in.g.Store(b.g)
	return b
}

// startWith starts one with an inside.
func startWith(t testing.TB, s *Sockets, in gateway.Inside, change ...func(*plan.Plan)) *busy {
	p, persons := bigplan.Sound(400)
	for _, c := range change {
		c(p)
	}
	for i := range p.Rules {
		p.Rules[i].Log = false
	}
	b := &busy{people: &folk{groups: map[string][]string{}, hash: eap.NTHash(password)}}
	for _, person := range persons {
		b.people.groups[person.User] = person.Groups
	}
	p.Services = append(p.Services, plan.Service{Name: "bulk", Ports: []string{"tcp/9", "udp/9"}})
	p.Rules = append(p.Rules, plan.Rule{Name: "ping-names", Action: plan.Permit, To: []string{"names"}, Services: []string{"ping", "bulk"}})
	pair := must(authority.NewGateway(rand.Reader, time.Now(), p.Gateways[0].Dial))
	b.set = gateway.Settings{
		Plan: p, Gateway: "gw",
		Certificates: map[string]gateway.Certificate{"gate": {Chain: [][]byte{pair.DER}, Key: pair.Key}},
	}
	b.socks = s
	g, err := gateway.Start(t.Context(), gateway.Config{
		Kinds:  []tunnel.Kind{b.spy(Kind{Sockets: b.socks, Log: quiet()})},
		Inside: in, People: b.people, Log: quiet(), Journal: func(gateway.Event) {
			b.people.slow.RLock() // the journal is kept in the same database
			defer b.people.slow.RUnlock()
		},
	}, b.set)
	require.NoError(t, err)
	b.g = g
	t.Cleanup(g.Stop)
	return b
}

// device logs somebody in.
func (b *busy) device(t testing.TB, user string) *handset {
	d := newDevice(t, b.socks, b.set.Plan.Gateways[0].Dial, user, password)
	require.NoError(t, d.login())
	return d
}

// delays pings for a time, 500 times a second, and gives the sorted delays and how many were not answered.
func (d *handset) delays(t testing.TB, lasting time.Duration) (out []time.Duration, lost int) {
	src, dst := d.given.Addresses[0], netip.MustParseAddr("10.0.0.53")
	begun := time.Now()
	var sent [1 << 16]atomic.Int64
	n := 0
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(2 * time.Millisecond)
		defer tick.Stop()
		for range tick.C {
			if time.Since(begun) > lasting || n == len(sent)-1 {
				return
			}
			n++
			sent[n].Store(int64(time.Since(begun)))
			d.send(echo(src, dst, 8, 7, uint16(n)), d.conn)
		}
	}()
	for over := false; ; {
		inner, ok := d.read(2 * time.Second) // of silence at the end: a busy machine may do nothing for a while
		if len(inner) > 28 && inner[20] == 0 {
			out = append(out, time.Since(begun)-time.Duration(sent[binary.BigEndian.Uint16(inner[26:])].Load()))
		}
		select {
		case <-done:
			over = true
		default:
		}
		if over && !ok {
			slices.Sort(out)
			return out, n - len(out)
		}
	}
}

// while does something again and again until it is told to stop.
func while(do func()) (stop func()) {
	ends, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		for {
			select {
			case <-ends:
				return
			default:
				do()
			}
		}
	}()
	return func() { close(ends); <-over }
}

// BenchmarkDelay measures what a standing session's packets wait for while other things happen: nothing, commits of the plan with 2,000
// rules, logins, a database that answers nobody.
func BenchmarkDelay(b *testing.B) {
	for _, c := range []struct {
		name string
		do   func(w *busy) (stop func())
	}{
		{"idle", func(*busy) func() { return func() {} }},
		{"commits", func(w *busy) func() { return while(func() { must(w.g.Commit(w.set)) }) }},
		{"logins", func(w *busy) func() {
			n := 0
			return while(func() { n++; w.device(b, fmt.Sprintf("user%05d", 1+n%399)).end() })
		}},
		{"crowd", func(w *busy) func() { // as many logins at once as the machine takes
			var stops []func()
			for i := range 8 {
				n := 0
				stops = append(stops, while(func() {
					n++
					w.device(b, fmt.Sprintf("user%05d", 1+(n*8+i)%399)).end()
					w.logins.Add(1)
				}))
			}
			return func() {
				for _, stop := range stops {
					stop()
				}
			}
		}},
		{"database-locked", func(w *busy) func() {
			w.people.slow.Lock()
			for range 8 { // each wants its refusal in the journal: they have no algorithms in common
				d := newDevice(b, w.socks, w.set.Plan.Gateways[0].Dial, "user00007", password, "P-256")
				d.perform(d.ini.Start(time.Now()))
			}
			return func() { w.people.slow.Unlock() }
		}},
	} {
		b.Run(c.name, func(b *testing.B) {
			w := startBusy(b)
			d := w.device(b, "user00000")
			for b.Loop() {
				begun := time.Now()
				stop := c.do(w)
				lasting := 3 * time.Second
				if testing.Short() {
					lasting /= 10
				}
				ds, lost := d.delays(b, lasting)
				stop()
				if len(ds) == 0 {
					ds = []time.Duration{0}
				}
				b.ReportMetric(float64(ds[len(ds)/2].Microseconds())/1000, "p50-ms")
				b.ReportMetric(float64(ds[len(ds)*99/100].Microseconds())/1000, "p99-ms")
				b.ReportMetric(float64(ds[len(ds)-1].Microseconds())/1000, "max-ms")
				b.ReportMetric(float64(lost), "lost")
				if n := w.logins.Swap(0); n > 0 {
					b.ReportMetric(float64(n)/time.Since(begun).Seconds(), "logins/s")
				}
			}
		})
	}
}
