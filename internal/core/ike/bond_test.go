package ike

import (
	"bytes"
	mathrand "math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/reason"
)

// unruly is a network between the two sides that loses, repeats and reorders.
type unruly struct {
	*world
	flying []flight
	ends   []Output                  // of sessions
	device Peer                      // where it is
	in     map[bool]map[uint32]Child // what each side has installed, by its own SPI; true: the gateway
}

type flight struct {
	up   bool // towards the gateway
	data []byte
	work func() Finish // of the gateway's, in place of data: it may come late, but is done once
}

func newUnruly(t testing.TB, change func(*Settings, *Caller)) *unruly {
	return newUnrulyWith(t, func(*world) {}, change)
}

func newUnrulyWith(t testing.TB, before func(*world), change func(*Settings, *Caller)) *unruly {
	u := &unruly{world: newWorld(t, change), device: device, in: map[bool]map[uint32]Child{true: {}, false: {}}}
	before(u.world)
	u.login()
	for _, o := range u.events {
		u.note(true, o)
		u.note(false, o)
	}
	return u
}

// note keeps the books that whoever carries the traffic keeps.
func (u *unruly) note(gateway bool, o Output) {
	switch o := o.(type) {
	case Up:
		if gateway {
			u.in[true][o.Child.In] = o.Child
		}
	case Established:
		if !gateway {
			u.in[false][o.Child.In] = o.Child
		}
	case Renewed:
		u.in[gateway][o.Child.In] = o.Child
	case Dropped:
		delete(u.in[gateway], o.In)
	case Down, Failed:
		u.in[gateway] = nil
		u.ends = append(u.ends, o)
	}
}

func (u *unruly) take(gateway bool, outs []Output) {
	for _, o := range outs {
		if s, ok := o.(Send); ok {
			u.flying = append(u.flying, flight{up: !gateway, data: s.Data})
			continue
		}
		if w, ok := o.(Work); ok {
			u.flying = append(u.flying, flight{work: w.Do})
			continue
		}
		u.note(gateway, o)
	}
}

func (u *unruly) deliver(i int) {
	f := u.flying[i]
	u.flying = slices.Delete(u.flying, i, i+1)
	if f.work != nil {
		u.take(true, u.l.Finish(u.now, f.work()))
		return
	}
	if f.up {
		u.take(true, u.l.Handle(u.now, u.device, f.data))
		return
	}
	u.take(false, u.i.Handle(u.now, f.data))
}

func (u *unruly) tick(d time.Duration) {
	u.now = u.now.Add(d)
	u.take(true, u.l.Tick(u.now))
	u.take(false, u.i.Tick(u.now))
}

// settle lets everything that is under way come to its end on a network that does nothing wrong.
func (u *unruly) settle() {
	for range 300 {
		for len(u.flying) > 0 {
			u.deliver(0)
		}
		u.tick(time.Second)
	}
	for len(u.flying) > 0 {
		u.deliver(0)
	}
}

func (u *unruly) bond(gateway bool) *bond {
	if !gateway {
		return u.i.b
	}
	for _, b := range u.l.sessions {
		return b
	}
	return nil
}

// requireSame holds that both sides end in the same state, and that nothing is left over of what led there.
func (u *unruly) requireSame(t require.TestingT) {
	g, d := u.bond(true), u.bond(false)
	require.NotNil(t, g, "the session stands: %v", u.ends)
	require.False(t, d.over)
	require.Equal(t, []uint64{g.cur.spiI, g.cur.spiR}, []uint64{d.cur.spiI, d.cur.spiR}, "the same IKE SA is in use")
	require.Equal(t, g.cur.keys.ei, d.cur.keys.ei)
	require.NotEqual(t, g.cur.mine, d.cur.mine)
	require.Len(t, g.sas, 1)
	require.Len(t, d.sas, 1)
	require.Len(t, u.l.sas, 1)
	require.Len(t, u.i.spis, 1)
	require.True(t, g.cur.win.idle() && d.cur.win.idle())
	require.Equal(t, g.cur.win.next, d.cur.win.expect)
	require.Equal(t, d.cur.win.next, g.cur.win.expect)
	require.Len(t, g.children, 1, "one Child SA is left")
	require.Len(t, d.children, 1)
	require.Len(t, u.l.children, 1)
	require.Len(t, u.in[true], 1)
	require.Len(t, u.in[false], 1)
	a, b := u.in[true][g.children[0].in], u.in[false][d.children[0].in]
	require.Equal(t, []any{a.In, a.Out, a.InKey, a.OutKey, a.Algorithm}, []any{b.Out, b.In, b.OutKey, b.InKey, b.Algorithm})
}

// Through loss, repetition and reordering, with both sides renewing at once, both end in the same state and leak nothing.
func TestBothSidesEndAlike(whole *testing.T) {
	rapid.Check(whole, func(t *rapid.T) {
		pfs := rapid.Bool().Draw(t, "pfs")
		seed := [32]byte{byte(rapid.IntRange(0, 255).Draw(t, "seed"))}
		u := newUnruly(whole, func(s *Settings, c *Caller) {
			s.Rand, c.Rand = mathrand.NewChaCha8(seed), mathrand.NewChaCha8([32]byte{1: seed[0] + 1}) // a failure can be repeated
			s.PFS, c.PFS, s.LogKeys, c.LogKeys = pfs, pfs, false, false
			c.Algorithms = xThenP
			if rapid.Bool().Draw(t, "other group first") {
				s.Algorithms = pThenX
			}
		})
		u.now = u.now.Add(time.Minute)
		steps := rapid.IntRange(5, 80).Draw(t, "steps")
		for range steps {
			gateway := rapid.Bool().Draw(t, "gateway")
			b := u.bond(gateway)
			if b == nil || b.over {
				break
			}
			out := func() {
				if gateway {
					u.take(true, u.l.take())
				} else {
					u.take(false, u.i.take())
				}
			}
			switch rapid.IntRange(0, 9).Draw(t, "what") {
			case 0:
				if c := b.newest(); c != nil {
					b.renewChild(u.now, c)
				}
				out()
			case 1:
				b.renewIKE(u.now)
				out()
			case 2:
				u.tick(time.Duration(rapid.IntRange(100, 2500).Draw(t, "ms")) * time.Millisecond)
			case 3:
				if len(u.flying) > 0 { // lost
					if i := rapid.IntRange(0, len(u.flying)-1).Draw(t, "lost"); u.flying[i].work == nil {
						u.flying = slices.Delete(u.flying, i, i+1)
					}
				}
			case 4:
				if len(u.flying) > 0 && len(u.flying) < 50 { // twice
					if f := u.flying[rapid.IntRange(0, len(u.flying)-1).Draw(t, "twice")]; f.work == nil {
						u.flying = append(u.flying, f)
					}
				}
			default:
				if len(u.flying) > 0 {
					u.deliver(rapid.IntRange(0, len(u.flying)-1).Draw(t, "next"))
				}
			}
		}
		u.settle()
		u.requireSame(t)
	})
}

// Each collision by itself, as RFC 7296 §2.8.1 and §2.8.2 have it: both requests cross.
func TestRenewalsCross(t *testing.T) {
	for _, what := range []string{"child", "ike"} {
		for range 12 { // either side's nonces may be the lowest
			u := newUnruly(t, nil)
			u.now = u.now.Add(time.Minute)
			for _, gateway := range []bool{true, false} {
				b := u.bond(gateway)
				if what == "child" {
					b.renewChild(u.now, b.newest())
				} else {
					b.renewIKE(u.now)
				}
				if gateway {
					u.take(true, u.l.take())
				} else {
					u.take(false, u.i.take())
				}
			}
			require.Len(t, u.flying, 2, "they cross")
			u.settle()
			u.requireSame(t)
			require.Empty(t, u.failure())
		}
	}
	require.Equal(t, []byte{1}, lowest([]byte{1}, []byte{2}))
	require.Negative(t, bytes.Compare([]byte{1, 2}, []byte{1, 2, 0}))
}

// The gateway renews before keys are used up, by time and by packets, and a device that goes along keeps its session for as long as it
// likes.
func TestTheGatewayRenews(t *testing.T) {
	u := newUnruly(t, func(s *Settings, _ *Caller) { s.IKELife, s.ESPLife = time.Hour, 20*time.Minute })
	firstIKE, firstESP := u.bond(true).cur.own(), u.bond(true).newest().in
	for range 5 * 3600 {
		u.tick(time.Second)
		for len(u.flying) > 0 {
			u.deliver(0)
		}
	}
	u.requireSame(t)
	require.NotEqual(t, firstIKE, u.bond(true).cur.own())
	require.NotEqual(t, firstESP, u.bond(true).newest().in)
	before := u.bond(true).newest().in
	u.l.Worn(u.bond(true).id, before, esp.Worn)
	u.settle()
	u.requireSame(t)
	require.NotEqual(t, before, u.bond(true).newest().in)
	u.l.Worn(u.bond(true).id, before, esp.Spent)
	u.settle()
	require.Equal(t, 1, u.l.Sessions(), "those were renewed")
	u.l.Worn(u.bond(true).id, u.bond(true).newest().in, esp.Spent)
	u.settle()
	require.Zero(t, u.l.Sessions())
}

// A deletion waits for what is under way, and is sent then (RFC 7296 §2.3); what is not answered is repeated for minutes (§2.4).
func TestOwnRequestsWait(t *testing.T) {
	u := newUnruly(t, nil)
	u.now = u.now.Add(31 * time.Second)
	u.take(true, u.l.Tick(u.now)) // asks whether it is there
	require.Len(t, u.flying, 1)
	u.take(true, u.l.End(u.now, u.bond(true).id, reason.Of(reason.EndedBy, reason.With{reason.Administrator: "ada"})))
	require.Len(t, u.flying, 1, "one request at a time")
	require.Zero(t, u.l.Sessions(), "the session is over at once")
	u.settle()
	require.True(t, u.i.b.over, "the device was told")
	require.Empty(t, u.l.sas)
	require.Empty(t, u.i.spis)
}

// What the peer made as we asked, and wants to renew before we have worked out its keys, is not unknown: it is asked for again later.
func TestRenewalOfWhatIsBeingWorkedOut(t *testing.T) {
	u := newUnruly(t, func(s *Settings, c *Caller) { s.PFS, c.PFS = true, true })
	u.now = u.now.Add(time.Minute)
	g, d := u.bond(true), u.bond(false)
	g.renewChild(u.now, g.newest())
	u.take(true, u.l.take())
	for len(d.children) < 2 {
		u.deliver(0)
	}
	u.deliver(0) // the answer; what follows from it waits
	require.NotNil(t, u.flying[0].work)
	worked := u.flying
	u.flying = nil
	d.newest().unsure = nil
	d.renewChild(u.now, d.newest())
	u.take(false, u.i.take())
	for len(u.flying) > 0 {
		u.deliver(0)
	}
	u.flying = worked
	u.settle()
	u.requireSame(t)
}
