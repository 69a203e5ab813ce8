package gateway

import (
	"net/netip"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
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
