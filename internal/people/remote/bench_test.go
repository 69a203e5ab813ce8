package remote_test

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people"
	"yellowlantern/internal/people/directory"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
	"yellowlantern/internal/testkit/directoryserver"
	"yellowlantern/internal/testkit/radiusserver"
)

// Logins a second by each way, sixteen at a time, beside what the server's own tool gets of it in the same run.
func BenchmarkRADIUS(b *testing.B) {
	s := radiusserver.Start(b, "mschapv2")
	atATime := func(b *testing.B, one func() error) {
		b.SetParallelism(8)
		b.RunParallel(func(p *testing.PB) {
			for p.Next() {
				require.NoError(b, one())
			}
		})
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "logins/s")
	}
	b.Run("password, the server's own tool", func(b *testing.B) {
		cmd := exec.Command("radclient", "-q", "-c", fmt.Sprint(b.N), "-p", "16", strings.TrimPrefix(s.UDP,
			"radius://"),
			"auth", radiusserver.Secret)
		cmd.Stdin = strings.NewReader("User-Name=dora\nUser-Password=\"" + radiusserver.Password + "\"\nMessage-Authenticator=0x00\n")
		require.NoError(b, cmd.Run())
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "logins/s")
	})
	for name, servers := range map[string][]string{"by UDP": {s.UDP}, "over TLS": {s.TLS}} {
		src := mainland(s)
		src.Servers = servers
		r := opened(b, src, radiusserver.Secret, shown(s))
		b.Run("password "+name, func(b *testing.B) {
			atATime(b, func() error {
				_, err := r.Login(b.Context(), source.Call{User: "dora", Password: radiusserver.Password}, nil)
				return err
			})
		})
		b.Run("answer to a challenge "+name, func(b *testing.B) {
			atATime(b, func() error {
				_, err := challenged(b.Context(), r)
				return err
			})
		})
		b.Run("EAP-MSCHAPv2 carried on "+name, func(b *testing.B) {
			atATime(b, func() error {
				device, relay := eap.NewPeer(rand.Reader, "dora", radiusserver.Password), r.Relay(login.Call{})
				for message := eap.AskIdentity(); ; {
					answer, _, err := device.Handle(message)
					if err != nil {
						return err
					}
					back, err := relay.Next(b.Context(), answer)
					if err != nil || back.Over {
						return err
					}
					message = back.Send
				}
			})
		})
	}
}

func challenged(ctx context.Context, r *remote.Server) (v eap.Verdict, err error) {
	device := eap.NewPeer(rand.Reader, "dora", radiusserver.Password)
	c := eap.Converse(eap.ByMSCHAPv2(rand.Reader, "", func(k eap.Check) eap.Verdict {
		_, v, err = r.Challenge(ctx, from, k, nil)
		return v
	}))
	message := c.Next(nil).Send
	for range 2 { // who they are, and their answer
		var answer []byte
		if answer, _, err = device.Handle(message); err != nil {
			return v, err
		}
		message = c.Next(answer).Send
	}
	return v, err
}

// sourcesOf are those that a benchmark has.
type sourcesOf []source.Source

func (s sourcesOf) Sources() []source.Source { return s }
func (sourcesOf) Groups() []string           { return []string{"researchers"} }

// Fifty people log in by a RADIUS server, alone and while fifty of a directory wait for its answers, each of which takes two seconds.
func BenchmarkBesideSlowDirectory(b *testing.B) {
	s, slow := radiusserver.Start(b, "mschapv2"), directoryserver.Start(b)
	d, err := directory.New(plan.Source{
		Name: "slow", Kind: plan.KindLDAP, Servers: []string{slow.LDAPS}, Authority: slow.Authority, Timeout: plan.Duration(10 * time.Second),
		Own: &plan.LDAP{Account: directoryserver.Account, Base: directoryserver.People},
	}, func(context.Context) (string, error) { return directoryserver.AccountSecret, nil })
	require.NoError(b, err)
	d.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
		time.Sleep(2 * time.Second)
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	kept, err := store.Open(b.TempDir())
	require.NoError(b, err)
	defer kept.Close()
	p := people.New(kept)
	p.Sources = sourcesOf{opened(b, mainland(s), radiusserver.Secret, nil), d}
	fifty := func() time.Duration {
		var all sync.WaitGroup
		took := make([]time.Duration, 50)
		for i := range took {
			all.Go(func() {
				begun := time.Now()
				o := p.Password(b.Context(), "dora", radiusserver.Password, login.Call{From: at(i)})
				took[i] = time.Since(begun)
				require.True(b, o.OK, "%s", o.Why.Words())
			})
		}
		all.Wait()
		slices.Sort(took)
		return took[len(took)/2]
	}
	fifty()
	var alone, beside time.Duration
	for b.Loop() {
		alone += fifty()
		var waiting sync.WaitGroup
		for i := range 50 {
			waiting.Go(func() { p.Password(b.Context(), fmt.Sprintf("stranger%d", i), "x", login.Call{From: at(100 + i)}) })
		}
		time.Sleep(200 * time.Millisecond) // they wait for the directory now
		beside += fifty()
		waiting.Wait()
	}
	b.ReportMetric(float64(alone.Microseconds())/float64(b.N), "µs-alone")
	b.ReportMetric(float64(beside.Microseconds())/float64(b.N), "µs-beside")
}

func at(i int) netip.Addr { return netip.AddrFrom4([4]byte{203, 0, 113, byte(i)}) }
