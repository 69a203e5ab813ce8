package gateway

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/pool"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/testkit/island"
)

// nowhere is a path that leads nowhere.
type nowhere struct{}

func (nowhere) Send(inside.Packet)      {}
func (nowhere) SendAll([]inside.Packet) {}
func (nowhere) Where() session.Where    { return session.Where{} }
func (nowhere) Missing() uint64         { return 0 }

func idle(t *testing.T, change ...string) *Gateway {
	m := island.Model(t, change...)
	g := &Gateway{
		name: "gate", model: m, servers: map[string]tunnel.Server{}, pools: map[string]*pool.Pool{}, refusals: newRefusals(),
		outbox: outbox{queue: make(chan item, outboxSize)},
	}
	g.engine = forward.New(m, &g.sessions)
	for i := range m.Plan.Pools {
		g.pools[m.Plan.Pools[i].Name] = pool.New(m.Plan.Pools[i].Addresses(), nil, 0)
	}
	return g
}

// What was leased is given back in every way in which a login can end: before it is up, by a family that the device does not ask for, at
// the
// end of the session; once, whoever says it.
func TestLeasesGoBack(t *testing.T) {
	g := idle(t)
	leased := func() int {
		n := 0
		for _, p := range g.pools {
			n += p.Leased()
		}
		return n
	}
	ask := tunnel.Request{User: "rory.researcher", Groups: []string{"researchers"}, Tunnel: "main", Algorithms: "x"}
	h := host{g, plan.KindIKEv2}
	s, grant := h.Admit(ask)
	require.True(t, grant.Refusal.None(), grant.Refusal.Words())
	require.Len(t, grant.Addresses, leased())
	require.Zero(t, g.sessions.Len(), "nothing passes before the device knows")
	require.Len(t, g.sessions.Theirs("research", ask.User), 1, "and yet it counts: two logins at once share a limit")
	h.Failed(s)
	require.False(t, h.Up(s, nowhere{}, s.Addresses), "what has failed does not come up")
	require.Zero(t, leased())

	s, _ = h.Admit(ask)
	g.keepOnly(s, s.Addresses[:1])
	require.Equal(t, 1, leased())
	require.True(t, g.engine.Attach(s, nowhere{}))
	require.Same(t, s, g.sessions.At(s.Addresses[0]))
	require.True(t, g.over(s, reason.Of(reason.TrialOver, nil)))
	h.Down(s, reason.Of(reason.PeerEnded, nil))
	require.Zero(t, leased())
	require.Nil(t, g.sessions.At(s.Addresses[0]))
	require.Error(t, g.End(s.ID, reason.Of(reason.TrialOver, nil)))
	require.Len(t, g.outbox.queue, 4, "two admissions; one end with its record")
}

// Somebody who was admitted by the plan before a commit, and comes up after it, does not stand by what that one gave.
func TestUpAfterACommit(t *testing.T) {
	g := idle(t)
	h := host{g, plan.KindIKEv2}
	s, grant := h.Admit(tunnel.Request{User: "rory.researcher", Groups: []string{"researchers"}, Tunnel: "main"})
	require.True(t, grant.Refusal.None(), grant.Refusal.Words())
	m := island.Model(t, "{split: [station, archive]}", "{split: [archive]}")
	g.mu.Lock()
	g.model = m
	g.mu.Unlock()
	require.True(t, h.Up(s, nowhere{}, s.Addresses))
	require.Eventually(t, func() bool { return g.sessions.Of(s.ID) == nil }, time.Second, time.Millisecond)
}

// The newest session wins where the plan says so, and the one that it ends is gone before the new one stands.
func TestNewestWins(t *testing.T) {
	g := idle(t)
	p := g.model.Class([]string{"researchers"}).Passage
	p.Limits.PerPerson, p.Limits.NewestWins = 1, true
	h := host{g, plan.KindIKEv2}
	ask := tunnel.Request{User: "rory.researcher", Groups: []string{"researchers"}, Tunnel: "main"}
	first, _ := h.Admit(ask)
	require.True(t, g.engine.Attach(first, nowhere{}))
	second, grant := h.Admit(ask)
	require.True(t, grant.Refusal.None(), grant.Refusal.Words())
	require.NotEqual(t, first.ID, second.ID)
	require.Nil(t, g.sessions.Of(first.ID))
	require.Equal(t, []*session.Session{second}, g.sessions.Theirs("research", ask.User))
}

// keyed are people who have shared keys alone.
type keyed struct{ People }

func (keyed) Shared(_ context.Context, ask login.SharedKey) login.Shared {
	return login.Shared{ID: "k1", Secret: []byte("x"), Outcome: login.Outcome{OK: true, User: ask.Identity, Known: true}}
}

// Wrong proofs by a shared key are throttled for the person and the place they come from, and nobody else; a right one clears it.
func TestSharedKeysAreThrottled(t *testing.T) {
	g := idle(t)
	g.cfg.People = keyed{}
	h := host{g, plan.KindIKEv2}
	from, other := netip.MustParseAddrPort("203.0.113.45:4500"), netip.MustParseAddr("198.51.100.7")
	ask := func(user string, at netip.Addr) login.Shared {
		return h.Shared(login.SharedKey{Identity: user, From: at})
	}
	require.True(t, ask("rory.researcher", from.Addr()).OK)
	for range 20 {
		h.Refused(tunnel.Refusal{From: from, User: "rory.researcher", Known: true, Reason: reason.Of(reason.WrongSharedKey, nil)})
	}
	waits := ask("rory.researcher", from.Addr())
	require.Equal(t, reason.SharedKeyWaits, waits.Why.Code)
	require.Regexp(t, `the next is judged after \d+`, waits.Why.Words())
	require.Nil(t, waits.Secret)
	require.True(t, ask("rory.researcher", other).OK, "elsewhere they come in")
	require.True(t, ask("vera.volunteer", from.Addr()).OK)
	require.True(t, h.Shared(login.SharedKey{MixedIn: true, Identity: "rory.researcher", From: from.Addr()}).OK)
	g.keys.judged("rory.researcher", from.Addr(), true)
	require.True(t, ask("rory.researcher", from.Addr()).OK)
}
