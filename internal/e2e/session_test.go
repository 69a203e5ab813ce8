package e2e

import (
	"context"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tunnel/ikev2"
	"yellowlantern/internal/underlay"
	"yellowlantern/internal/userstack"
)

func ping(t *testing.T, tn *probe.Tunnel, dst string) error {
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	_, err := tn.Stack.Ping(ctx, mustAddr(dst), tn.Send)
	return err
}

// A home router that forgets its translations does not end a session: the gateway follows the device to its new port.
func TestSessionSurvivesForgottenTranslation(t *testing.T) {
	d := island(t, nil)
	tn := connect(t, d, "rory.researcher")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	seen := func() string {
		ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
		require.NoError(t, err)
		require.Len(t, ss, 1)
		return ss[0].From
	}
	before := seen()
	require.True(t, strings.HasPrefix(before, "203.0.113.45:"), before)
	d.Lab.Forget("home")
	require.NoError(t, ping(t, tn, "10.20.30.5"), "by the new port")
	require.NotEqual(t, before, seen())
	require.NoError(t, tn.Ended())
}

// A commit that does not touch a session loses none of its packets, and a change of a rule acts on the very next one.
func TestCommitsLoseNothing(t *testing.T) {
	d := island(t, nil)
	tn := connect(t, d, "rory.researcher")
	done, lost, sent := make(chan struct{}), 0, 0
	var wait sync.WaitGroup
	wait.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			sent++
			if ping(t, tn, "10.20.30.5") != nil {
				lost++
			}
		}
	})
	for i := range 6 {
		recommit(t, d, "note: watch the nest cameras", []string{"note: watch the nests", "note: watch the terns"}[i%2])
		time.Sleep(50 * time.Millisecond)
	}
	close(done)
	wait.Wait()
	require.Greater(t, sent, 20)
	require.Zero(t, lost, "of %d pings during six commits", sent)
	require.NoError(t, tn.Ended())
	recommit(t, d, "{name: archive, action: permit, groups: [researchers], to: [records, nestcams], services: [web, ping]}", "{name: archive, action: permit, groups: [researchers], to: [records, nestcams], services: [web, ping]}\n  - {name: shut, action: refuse, groups: [wardens], to: [names], services: [tcp/22]}")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
}

// The ping that failed before connecting answers after, and fails again when the session is over. That is the whole point.
func TestPingBeforeAndAfter(t *testing.T) {
	d := island(t, nil)
	u := home(t, d)
	try := func() error {
		ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
		defer cancel()
		_, err := u.Ping(ctx, mustAddr("10.20.30.5"))
		return err
	}
	require.Error(t, try())
	tn, err := probe.Open(t.Context(), u, order(t, d, "rory.researcher"), probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	require.NoError(t, ping(t, tn, "fd00:20:30::5"))
	require.Error(t, ping(t, tn, "10.20.0.20"), "routed, and no rule permits it")
	require.Equal(t, userstack.Said{Reason: reason.Of(reason.SaidProhibited, nil), By: mustAddr("10.20.0.1")},
		tn.Stack.Said(mustAddr("10.20.0.20"), 0))
	require.Error(t, ping(t, tn, "10.20.40.10"), "neither routed nor permitted")
	tn.Close()
	require.Error(t, try())
	journaled(t, d, "ended", "the device ended the session")
}

// onLoopback is this machine's own network, on which the gateway's name leads to loopback.
type onLoopback struct{ underlay.Underlay }

func (onLoopback) Resolve(context.Context, string) ([]netip.Addr, error) {
	return []netip.Addr{mustAddr("127.0.0.1")}, nil
}

// The probe needs no lab: it logs in by the operating system's own sockets, without privileges.
func TestProbeByOrdinarySockets(t *testing.T) {
	d := island(t, nil)
	opt := probe.Options{
		Password: d.Passwords["curt.contractor"],
		Ports:    map[string]uint16{ikev2.PortIKE: d.Sockets.IKE().Port(), ikev2.PortNATT: d.Sockets.NATT().Port()},
	}
	o := order(t, d, "curt.contractor")
	for i := range o.Trials { // nothing of the site is on this machine's network: what is tried before connecting is left out here
		o.Trials[i].Network = ""
	}
	r, err := probe.Run(t.Context(), onLoopback{underlay.Host()}, o, opt)
	require.NoError(t, err)
	require.True(t, r.Connected, r.Login)
	require.True(t, r.OK, "%+v", r)
	require.False(t, r.Given.Behind, "there is no translation on loopback")
	require.Equal(t, "this machine's network", r.Vantage)
}

// Many people at once: every session has addresses of its own, all of them work, and when they are gone nothing is left.
func TestManySessions(t *testing.T) {
	d := island(t, nil)
	names := []string{"rory.researcher", "vera.volunteer", "wanda.warden"}
	const people = 3 * plan.SessionsEach
	tunnels := make([]*probe.Tunnel, people)
	var wait sync.WaitGroup
	errs := make(chan error, people)
	for i := range people {
		wait.Go(func() {
			u, err := underlay.Vantage(t.Context(), d.Lab.Vantages()[0].Link)
			if err == nil {
				name := names[i%len(names)]
				tunnels[i], err = probe.Open(t.Context(), u, order(t, d, name), probe.Options{Password: d.Passwords[name]})
			}
			if err == nil {
				ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
				defer cancel()
				_, err = tunnels[i].Stack.Ping(ctx, mustAddr(map[bool]string{true: "10.20.30.5", false: "10.20.0.53"}[i%len(names) == 0]),
					tunnels[i].Send)
			}
			if err != nil {
				errs <- err
			}
		})
	}
	wait.Wait()
	close(errs)
	for err := range errs {
		require.NoError(t, err)
	}
	seen := map[netip.Addr]bool{}
	for _, tn := range tunnels {
		for _, a := range tn.Given.Addresses {
			require.False(t, seen[a], "%s is leased twice", a)
			seen[a] = true
		}
	}
	// One more of one person's is one too many, where the plan says nothing.
	u, err := underlay.Vantage(t.Context(), d.Lab.Vantages()[0].Link)
	require.NoError(t, err)
	_, err = probe.Open(t.Context(), u, order(t, d, names[0]), probe.Options{Password: d.Passwords[names[0]]})
	require.Error(t, err)
	journaled(t, d, "refused", "this user has 8 sessions already")
	for _, tn := range tunnels {
		tn.Close()
	}
	require.Eventually(t, func() bool {
		s, err := client.Get[gateway.Status](context.Background(), d.Client, "/status")
		return err == nil && s.Sessions == 0 && s.LoggingIn == 0 && s.Flows == 0
	}, 20*time.Second, 50*time.Millisecond)
}

// Logins that come to nothing leave nothing behind: memory does not grow with their number.
func TestRefusedLoginsLeaveNothing(t *testing.T) {
	d := island(t, nil)
	o := order(t, d, "rory.researcher")
	try := func(n int) {
		for range n {
			u, err := underlay.Vantage(t.Context(), d.Lab.Vantages()[0].Link)
			require.NoError(t, err)
			_, err = probe.Open(t.Context(), u, o, probe.Options{Password: "not the password"})
			require.ErrorContains(t, err, "user or password is wrong")
			u.Close()
		}
	}
	heap := func() uint64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	try(20)
	before := heap()
	try(100)
	require.Less(t, heap(), before+4<<20, "a hundred refused logins keep less than 4 MiB (the lab's sockets among it)")
	s, err := client.Get[gateway.Status](t.Context(), d.Client, "/status")
	require.NoError(t, err)
	require.Zero(t, s.Sessions+s.LoggingIn)
	es, err := client.Get[[]gateway.Event](t.Context(), d.Client, "/journal?kind=refused&limit=500")
	require.NoError(t, err)
	require.NotEmpty(t, es)
	require.Less(t, len(es), 12, "the journal tells of those like each other together")
	slowed, err := client.Get[[]members.Slowed](t.Context(), d.Client, "/slowed")
	require.NoError(t, err)
	require.Len(t, slowed, 1)
	require.Equal(t, "rory.researcher", slowed[0].Name)
	require.Equal(t, "203.0.113.45/32", slowed[0].Source.String(), "by where the home router is, not by the lab's relay")
	require.Positive(t, slowed[0].Wrong)
	require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/slowed?name=rory.researcher", nil, nil))
	require.NoError(t, ping(t, connect(t, d, "rory.researcher"), "10.20.30.5"))
}

// The gateway's ports serve callers by IPv4, by IPv6, and by both on one socket.
func TestListeningFamilies(t *testing.T) {
	for _, addr := range []string{"127.0.0.1:0", "[::1]:0", ":0"} {
		d := island(t, func(o *instance.Options) { o.IKE, o.NATT = addr, addr })
		require.NoError(t, ping(t, connect(t, d, "rory.researcher"), "10.20.30.5"), addr)
	}
}

// Somebody who is switched off, removed or put into other groups loses the session at once; a new name alone changes nothing.
func TestChangedUserLosesTheSession(t *testing.T) {
	d := island(t, nil)
	change := func(u people.User) {
		require.NoError(t, d.Client.Do(t.Context(), "PUT", "/users/"+u.Name, u, nil))
	}
	gone := func(tn *probe.Tunnel) {
		require.Eventually(t, func() bool { return tn.Ended() != nil }, 20*time.Second, 20*time.Millisecond)
	}
	rory, vera, curt := connect(t, d, "rory.researcher"), connect(t, d, "vera.volunteer"), connect(t, d, "curt.contractor")
	change(people.User{Name: "rory.researcher", FullName: "R. Researcher", Groups: []string{"researchers"}})
	require.NoError(t, ping(t, rory, "10.20.30.5"))
	change(people.User{Name: "rory.researcher", Groups: []string{"researchers"}, Off: true})
	gone(rory)
	change(people.User{Name: "vera.volunteer", Groups: []string{"researchers"}})
	gone(vera)
	require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/users/curt.contractor", nil, nil))
	gone(curt)
	journaled(t, d, "ended", "the user was changed")
}
