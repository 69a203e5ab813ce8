package gateway

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
)

const answerTime = 10 * time.Second // for whoever knows the people

// host is the gateway as the server of one kind of tunnel sees it.
type host struct {
	g    *Gateway
	kind string
}

var _ tunnel.Host = host{}

// Begin begins a login.
func (h host) Begin(c login.Call) login.Conversation {
	return h.g.cfg.People.Begin(c)
}

// SeenAt tells where a caller really is.
func (h host) SeenAt(a netip.AddrPort) netip.AddrPort { return h.g.seenAt(a) }

// Refused journals a login that failed.
func (h host) Refused(r tunnel.Refusal) {
	if r.Reason.Code == reason.WrongSharedKey {
		h.g.keys.judged(r.User, r.From.Addr(), false)
	}
	h.g.mu.Lock()
	defer h.g.mu.Unlock()
	h.g.engine.RefusedLogin(r.User, r.Reason)
	h.g.refused(time.Now(), r)
}

// Admit holds somebody who logged in against the plan, leases, and has the admission recorded.
func (h host) Admit(r tunnel.Request) (*session.Session, tunnel.Grant) {
	g := h.g
	s, grant := g.grant(r, h.kind)
	if !grant.Refusal.None() {
		return nil, grant
	}
	if len(s.SharedKeys) > 0 {
		g.keys.judged(r.User, r.From.Addr(), true)
	}
	code := reason.LoggedIn
	if len(r.Back) > 0 {
		code = reason.CameBack
	}
	held, _ := s.Factor()
	if held {
		code = reason.LoggedInHeld
	}
	e := g.event(reason.Of(code, reason.With{
		reason.Passage: s.Passage, reason.Tunnel: s.Tunnel, reason.Addresses: s.Leased().String(), reason.Suite: s.Algorithms,
		reason.ProvedBy: provedBy(r, s),
	}), r.User, r.From.String())
	if g.cfg.Admit == nil {
		g.journal(e)
	} else if err := g.cfg.Admit(e); err != nil {
		g.over(s, reason.Reason{})
		code := reason.NotRecorded // a full disk, say: nobody is told that anything of theirs is wrong, and the device tries again
		if errors.Is(err, ErrLater) {
			code = reason.LoginsLater
		}
		return nil, tunnel.Grant{Refusal: reason.Of(code, reason.With{reason.Error: err.Error()}), Later: true}
	}
	return s, grant
}

// provedBy says what somebody proved themselves with, as the journal has it.
func provedBy(r tunnel.Request, s *session.Session) string {
	var by []string
	switch {
	case r.ProvedBy != "":
		by = append(by, r.ProvedBy)
	case s.Key != nil: // of the login that they came back to
		by = append(by, "key "+cert.Fingerprint(s.Key))
	}
	for _, id := range s.SharedKeys {
		by = append(by, "shared key "+id)
	}
	if len(r.Back) > 0 {
		by = append([]string{"the ticket of an earlier login"}, by...)
	} else if len(by) == 0 {
		by = []string{"password"}
	}
	return strings.Join(by, ", ")
}

// Up lets the packets of a session pass.
func (h host) Up(s *session.Session, path session.Path, used []netip.Addr) bool {
	h.g.keepOnly(s, used)
	h.g.answerFor(s, true) // before the device can ask for anything
	if !h.g.engine.Attach(s, path) {
		h.g.answerFor(s, false)
		return false
	}
	h.g.done.Go("gateway.lookAgain", func() { h.g.lookAgain(s) })
	return true
}

// lookAgain ends the session of somebody who was removed, or put into other groups, in the middle of their login, or whose passage gives
// something else since a commit: that one saw only who was up.
func (g *Gateway) lookAgain(s *session.Session) {
	g.mu.Lock()
	m := g.model
	g.mu.Unlock()
	if why := Outdated(m, g.status(s)); !why.None() {
		g.end(s, why)
		return
	}
	for isUp(s) {
		now, err := g.standing(s.User)
		switch {
		case errors.Is(err, ErrLater): // their session stands until somebody knows
		case err != nil || !slices.Equal(now.Groups, s.Groups):
			g.end(s, reason.Of(reason.UserChangedEarly, nil))
			return
		default:
			s.SetLimits(now.Limits)
			return
		}
	}
}

func isUp(s *session.Session) bool {
	s.Lock()
	defer s.Unlock()
	return s.IsUp()
}

func (g *Gateway) standing(user string) (login.Standing, error) {
	ctx, stop := context.WithTimeout(context.Background(), answerTime)
	defer stop()
	return g.cfg.People.Standing(ctx, user)
}

// keepOnly gives back what was leased and is not used: addresses of a family that the device did not ask for.
func (g *Gateway) keepOnly(s *session.Session, used []netip.Addr) {
	rest := slices.DeleteFunc(slices.Clone(s.Addresses), func(a netip.Addr) bool { return slices.Contains(used, a) })
	g.release(s.Pool, rest)
	s.Lock()
	s.Addresses = slices.Clone(used)
	s.Prefixes = slices.DeleteFunc(slices.Clone(s.Prefixes), func(p netip.Prefix) bool { return !slices.ContainsFunc(used, p.Contains) })
	s.Unlock()
}

func (g *Gateway) release(name string, addresses []netip.Addr) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.pools[name]; p != nil {
		p.Release(addresses...)
	}
}

// Failed gives back what was leased for a login that came to nothing.
func (h host) Failed(s *session.Session) { h.g.over(s, reason.Reason{}) }

// Down ends a session whose tunnel is gone.
func (h host) Down(s *session.Session, why reason.Reason) { h.g.over(s, why) }

// over ends a session, and tells whether it was not over yet. Once it has returned no packet of it passes.
func (g *Gateway) over(s *session.Session, why reason.Reason) bool {
	up, first := g.engine.Detach(s, why)
	if !first {
		return false
	}
	if up {
		g.answerFor(s, false)
	}
	g.release(s.Pool, s.Addresses)
	if !up {
		return true
	}
	over := g.status(s)
	g.outbox.put(item{over: &over, why: why})
	c := s.Counted()
	g.journal(g.event(why.And(reason.With{
		reason.Passage: s.Passage, reason.Tunnel: s.Tunnel, reason.In: fmt.Sprint(c.InPackets), reason.Out: fmt.Sprint(c.OutPackets),
		reason.Gone: fmt.Sprint(lostOf(c)),
	}), s.User, over.From))
	return true
}

// newID gives a session a number that cannot be guessed; 0 where there is no randomness.
func newID() uint64 {
	var b [8]byte
	_, _ = rand.Read(b[:])
	return binary.BigEndian.Uint64(b[:])
}

func mtuOf(t *plan.Tunnel) (mtu int, clamp bool) {
	if t == nil {
		return plan.DefaultMTU, true
	}
	return t.InnerMTU(), !t.KeepMSS
}

func (g *Gateway) seenAt(a netip.AddrPort) netip.AddrPort {
	if g.cfg.SeenAt != nil {
		return g.cfg.SeenAt(a)
	}
	return a
}

// event is something that happened at this gateway.
func (g *Gateway) event(why reason.Reason, user, from string) Event {
	e := Tell(why, user, from)
	e.Gateway = g.name
	return e
}
