package agent

import (
	"context"
	"errors"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

// twoRounds is a source of people whose logins take two rounds.
type twoRounds struct{ begun chan struct{} }

type conversation struct{ round int }

func (p twoRounds) Begin(login.Call) login.Conversation {
	p.begun <- struct{}{}
	return &conversation{}
}

func (twoRounds) Standing(_ context.Context, user string) (login.Standing, error) {
	if user == "nobody" {
		return login.Standing{}, errors.New("there is no nobody")
	}
	return login.Standing{Groups: []string{"of " + user}, Limits: login.Limits{Sessions: 2, Tunnels: []string{"main"}}}, nil
}

func (twoRounds) Owner(_ context.Context, shown login.Key) login.Outcome {
	return login.Outcome{OK: true, User: "owner of " + string(shown.Public)}
}

func (twoRounds) Shared(_ context.Context, ask login.SharedKey) login.Shared {
	return login.Shared{ID: ask.Identity, Outcome: login.Outcome{OK: true}, Secret: []byte("secret")}
}

func (twoRounds) Code(_ context.Context, c login.Code) login.Outcome {
	return login.Outcome{OK: c.Code == "755224", User: c.User, Why: reason.Of(reason.WrongCode, nil)}
}

func (twoRounds) Coded(_ context.Context, c login.Coded) time.Time {
	return time.Unix(int64(len(c.Keys)), 0)
}

func (p twoRounds) Again(ctx context.Context, user, stamp string) (login.Standing, error) {
	if stamp != "as it was" {
		return login.Standing{}, login.ErrStamp
	}
	return p.Standing(ctx, user)
}

func (c *conversation) End() {}

func (c *conversation) Next(message []byte) login.Step {
	if c.round++; c.round == 1 {
		return login.Step{Send: append([]byte("again, "), message...)}
	}
	return login.Step{Over: true, Outcome: login.Outcome{OK: true, User: string(message)}}
}

// What a gateway asks is ruled on by whatever service is there: one that comes late is asked what waits, one that is gone leaves logins to
// be tried again, and one that did not begin a login does not carry it on.
func TestDesk(t *testing.T) {
	d := NewDesk()
	d.Patience = 300 * time.Millisecond
	at := login.Call{From: netip.MustParseAddr("198.51.100.7"), Server: "gate", Tunnel: "main"}
	require.True(t, d.Begin(at).Next(nil).Later, "nobody is there")
	require.ErrorIs(t, d.Admit(gateway.Event{}), gateway.ErrLater)

	p := twoRounds{make(chan struct{}, 9)}
	serve := func(admits error) (stop func()) {
		h := NewHandle(&Local{Desk: d, Log: NewLog()}, Mark{})
		h.People, h.Admit = p, func(gateway.Event) error { return admits }
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { h.Rule(ctx); close(done) }()
		return func() { cancel(); <-done }
	}
	late := make(chan login.Step)
	first := d.Begin(at)
	go func() { late <- first.Next([]byte("hello")) }()
	time.Sleep(50 * time.Millisecond)
	stop := serve(errors.New("the disk is full"))
	require.Equal(t, "again, hello", string((<-late).Send), "it waited")
	second := d.Begin(at)
	require.NotEmpty(t, second.Next(nil).Send)
	got := second.Next([]byte("wanda"))
	require.True(t, got.OK && got.User == "wanda")
	now, err := d.Standing(t.Context(), "wanda")
	require.NoError(t, err)
	require.Equal(t, login.Standing{Groups: []string{"of wanda"}, Limits: login.Limits{Sessions: 2, Tunnels: []string{"main"}}}, now)
	again, err := d.Again(t.Context(), "wanda", "as it was")
	require.NoError(t, err)
	require.Equal(t, now, again)
	require.Equal(t, "owner of a key", d.Owner(t.Context(), login.Key{Public: []byte("a key")}).User)
	require.Equal(t, login.Shared{ID: "rory", Outcome: login.Outcome{OK: true}, Secret: []byte("secret")},
		d.Shared(t.Context(), login.SharedKey{Identity: "rory"}))
	require.True(t, d.Code(t.Context(), login.Code{User: "wanda", Code: "755224"}).OK)
	require.Equal(t, reason.WrongCode, d.Code(t.Context(), login.Code{User: "wanda", Code: "000000"}).Why.Code)
	require.Equal(t, time.Unix(2, 0), d.Coded(t.Context(), login.Coded{User: "wanda", Keys: []string{"a", "b"}}))
	_, err = d.Again(t.Context(), "wanda", "as it became")
	require.ErrorIs(t, err, login.ErrStamp)
	_, err = d.Standing(t.Context(), "nobody")
	require.ErrorContains(t, err, "there is no nobody")
	err = d.Admit(gateway.Event{})
	require.ErrorContains(t, err, "the disk is full")
	require.NotErrorIs(t, err, gateway.ErrLater)
	stop()

	stop = serve(nil)
	got = first.Next([]byte("wanda"))
	require.True(t, got.Over && got.Later && !got.OK, "another service began that login: %+v", got)
	require.NoError(t, d.Admit(gateway.Event{}))
	require.Len(t, p.begun, 2)
	d.mu.Lock()
	require.Empty(t, d.waiting)
	d.mu.Unlock()

	d.Patience = time.Minute
	stop()
	go func() { late <- d.Begin(at).Next(nil) }()
	time.Sleep(20 * time.Millisecond)
	d.Close()
	require.True(t, (<-late).Later, "a gateway that ends waits for nobody")
}

// endless is a source of people whose logins go on until they are ended.
type endless struct {
	twoRounds
	live, judged atomic.Int32  // judged are those that ended after they were held
	hold         chan struct{} // what a message waits for
}

type goingOn struct {
	of   *endless
	held bool
}

func (p *endless) Begin(login.Call) login.Conversation {
	p.live.Add(1)
	return &goingOn{of: p}
}

func (g *goingOn) Next(message []byte) login.Step {
	if string(message) == "wait" {
		g.held = true
		<-g.of.hold
	}
	return login.Step{Send: []byte("go on")}
}

func (g *goingOn) End() {
	g.of.live.Add(-1)
	if g.held {
		g.of.judged.Add(1)
	}
}

// A login that ends is ended where it is carried on, also while it is being judged; of one source as many are carried on as its share,
// and another source's go on.
func TestTalksEnd(t *testing.T) {
	d := NewDesk()
	p := &endless{hold: make(chan struct{})}
	h := NewHandle(&Local{Desk: d, Log: NewLog()}, Mark{})
	h.People = p
	go h.Rule(t.Context())
	crowd := login.Call{From: netip.MustParseAddr("198.51.100.7")}
	home := login.Call{From: netip.MustParseAddr("203.0.113.45")}

	real := d.Begin(home)
	require.NotEmpty(t, real.Next(nil).Send)
	for range 3 * talksShare {
		require.NotEmpty(t, d.Begin(crowd).Next(nil).Send) // left, and not even ended
	}
	shared := func() bool { return p.live.Load() == talksShare+1 }
	require.Eventually(t, shared, time.Second, time.Millisecond, "the oldest of that source gave way")
	require.NotEmpty(t, real.Next([]byte("hello")).Send, "and nobody else's")
	for range 1000 {
		c := d.Begin(crowd)
		require.NotEmpty(t, c.Next(nil).Send)
		c.End()
		c.End()
	}
	require.NotEmpty(t, real.Next([]byte("hello")).Send)
	require.Eventually(t, func() bool { return p.live.Load() <= talksShare+1 }, 5*time.Second, time.Millisecond, "%d", p.live.Load())

	judged := make(chan login.Step)
	go func() { judged <- real.Next([]byte("wait")) }()
	time.Sleep(50 * time.Millisecond)
	real.End()
	require.True(t, (<-judged).Later, "whoever waits is told at once")
	require.Zero(t, p.judged.Load(), "what is being judged is not pulled away")
	close(p.hold)
	require.Eventually(t, func() bool { return p.judged.Load() == 1 }, 5*time.Second, time.Millisecond)
	require.Eventually(t, func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return len(d.waiting) == 0 || d.waiting[len(d.waiting)-1].Over != 0 && len(d.waiting) == 1
	}, time.Second, time.Millisecond)
	require.Zero(t, d.sources.All())
}
