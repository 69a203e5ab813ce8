package gateway

import (
	"net/netip"
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// applyInside makes the inside as a plan wants it.
func (g *Gateway) applyInside(m *site.Model) {
	if g.cfg.Inside == nil {
		return
	}
	want := m.Wanted()
	for _, s := range g.sessions.All() {
		want.Answers = append(want.Answers, carved(m, s.Addresses)...)
	}
	g.cfg.Inside.Apply(want)
}

// carved are those of a person's addresses that lie in a pool which is carved from a network: the gateway answers for them there.
func carved(m *site.Model, addresses []netip.Addr) (out []netip.Addr) {
	for _, a := range addresses {
		for i := range m.Plan.Pools {
			if p := &m.Plan.Pools[i]; p.CarvedFrom != "" && p.Space().Contains(a) {
				out = append(out, a)
			}
		}
	}
	return out
}

// answerFor lets the gateway answer, or no longer, for what a session has.
func (g *Gateway) answerFor(s *session.Session, on bool) {
	if g.cfg.Inside == nil {
		return
	}
	for _, a := range carved(g.engine.Model(), s.Addresses) {
		g.cfg.Inside.Answer(a, on)
	}
}

// Inside tells how the inside is.
func (g *Gateway) Inside() inside.Observed {
	if g.cfg.Inside == nil {
		return inside.None()
	}
	return g.cfg.Inside.Observed()
}

// Owns is told which addresses the machine has.
func (g *Gateway) Owns(own netset.Addrs) { g.engine.Owns(own) }

// leftAlone is for how long an address is not leased that somebody else has (RFC 5227 leaves that to whoever assigns addresses).
const leftAlone = 10 * time.Minute

// takenByOthers looks whether somebody on the network that a session's addresses lie on has one of them. Then the session is over before it
// began, and the address is left alone for a while.
func (g *Gateway) takenByOthers(s *session.Session) bool {
	p, ok := g.cfg.Inside.(Prober)
	if !ok {
		return false
	}
	mine := carved(g.engine.Model(), s.Addresses)
	if len(mine) == 0 {
		return false
	}
	used := p.InUse(mine)
	if len(used) == 0 {
		return false
	}
	g.mu.Lock()
	supply := g.pools[s.Pool]
	for a, who := range used {
		if supply != nil {
			supply.Avoid(a, time.Now().Add(leftAlone))
		}
		g.journal(g.event(reason.Of(reason.AddressInUse, reason.With{
			reason.Addresses: a.String(), reason.Pool: s.Pool, reason.What: who,
		}), s.User, ""))
	}
	g.mu.Unlock()
	g.over(s, reason.Reason{})
	return true
}
