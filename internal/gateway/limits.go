package gateway

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/pool"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// grant chooses the passage by the groups of the authenticated person, holds it against the passage's limits, and leases. g.mu is
// held.
func (g *Gateway) grant(ask ike.AskLease, groups []string) ike.Grant {
	class := g.model.Class(groups)
	if class.Passage == nil {
		return ike.Grant{Refusal: reason.Of(reason.NoPassage, reason.With{reason.Groups: class.Name()})}
	}
	p := class.Passage
	if !slices.Contains(p.Tunnels, ask.Tunnel) {
		return ike.Grant{Refusal: reason.Of(reason.OtherTunnel, reason.With{
			reason.Passage: p.Name, reason.Tunnels: strings.Join(p.Tunnels, ", "), reason.Tunnel: ask.Tunnel,
		})}
	}
	hours := g.model.Names.Hours[p.Limits.Hours]
	if why := g.full(p, ask.User, hours); !why.None() {
		return ike.Grant{Refusal: why}
	}
	supply := g.pools[p.Passage.Pool]
	if supply == nil {
		return ike.Grant{Refusal: reason.Of(reason.NoPool, reason.With{reason.Passage: p.Name}), Exhausted: true}
	}
	addrs, err := supply.Lease(ask.User)
	if err == pool.ErrExhausted {
		return ike.Grant{
			Refusal: reason.Of(reason.PoolExhausted, reason.With{
				reason.Pool: p.Passage.Pool, reason.Passage: p.Name, reason.Count: strconv.Itoa(supply.Leased()),
			}),
			Exhausted: true,
		}
	}
	g.held[ask.ID] = lease{
		pool: p.Passage.Pool, addresses: addrs, groups: groups, passage: p.Name, tunnel: ask.Tunnel, limits: p.Limits,
		hours: hours,
	}
	return ike.Grant{Configuration: ike.Configuration{
		Addresses: addrs, DNS: p.DNS.Servers, Domains: domainsOf(p.DNS), Routes: p.Routes, Full: p.Passage.Routes.Full,
	}}
}

// domainsOf is all domains that go through the tunnel.
func domainsOf(d plan.DNS) []string { return append(slices.Clone(d.Search), d.Domains...) }

// full tells why the passage's limits let nobody more in; none if they do. At one person's limit the oldest session ends where the
// plan says so. g.mu is held.
func (g *Gateway) full(p *site.Passage, user string, hours *plan.Hours) reason.Reason {
	if p.Limits.Hours != "" && (hours == nil || !hours.Hold(time.Now().In(g.zone))) {
		return reason.Of(reason.OutsideHours, reason.With{
			reason.Passage: p.Name, reason.Hours: p.Limits.Hours, reason.When: words(hours),
		})
	}
	mine, all := g.persons.of(p.Name, user), g.persons.in(p.Name)
	if most := p.Limits.Each(); len(mine) >= most {
		if !p.Limits.NewestWins {
			return reason.Of(reason.TooManySessions, reason.With{reason.Passage: p.Name, reason.Count: strconv.Itoa(len(mine))})
		}
		oldest := slices.MinFunc(mine, func(a, b *session) int { return a.since.Compare(b.since) })
		g.endSession(oldest, reason.Of(reason.LoggedInElsewhere, reason.With{reason.Passage: p.Name}))
		all--
	}
	if most := p.Limits.Sessions; most > 0 && all >= most {
		return reason.Of(reason.PassageFull, reason.With{reason.Passage: p.Name, reason.Count: strconv.Itoa(all)})
	}
	return reason.Reason{}
}

func words(h *plan.Hours) string {
	if h == nil {
		return "which the plan does not have"
	}
	return h.String()
}

// endSession ends a session with a reason, once. g.mu is held.
func (g *Gateway) endSession(s *session, why reason.Reason) {
	if !s.over {
		s.over = true
		g.perform(g.listener.End(time.Now(), s.id, why))
	}
}

// enforce ends sessions whose time is up. g.mu is held.
func (g *Gateway) enforce(now time.Time) {
	for _, s := range g.sessions {
		if why := g.timeUp(s, now); !why.None() {
			g.endSession(s, why)
		} else if spi, worn := s.worn(); worn {
			g.listener.Worn(s.id, spi)
		}
	}
}

// worn tells whether sequence numbers of the association that is sent with, or received with, are going to be used up.
func (s *session) worn() (spi uint32, worn bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.pairs) == 0 {
		return 0, false
	}
	p := s.pairs[len(s.pairs)-1]
	return p.opener.SPI, p.sealer.Used() > mostSequence || p.opener.Top() > mostSequence
}

// mostSequence is at which sequence number an association is renewed: with half of them left (RFC 4303 §3.3.3 lets none come twice).
const mostSequence = 1 << 31

func (g *Gateway) timeUp(s *session, now time.Time) reason.Reason {
	l := s.lease.limits
	if longest := time.Duration(l.Longest); longest > 0 && now.Sub(s.since) >= longest {
		return reason.Of(reason.LongestLimit, reason.With{reason.Limit: l.Longest.String(), reason.Passage: s.lease.passage})
	}
	if l.Hours != "" && (s.lease.hours == nil || !s.lease.hours.Hold(now.In(g.zone))) {
		return reason.Of(reason.HoursOver, reason.With{reason.Hours: l.Hours})
	}
	if idle := time.Duration(l.Idle); idle > 0 {
		last := g.engine.LastIn(s.fwd)
		if last.Before(s.since) {
			last = s.since
		}
		if now.Sub(last) >= idle {
			return reason.Of(reason.IdleLimit, reason.With{reason.Limit: l.Idle.String()})
		}
	}
	return reason.Reason{}
}

// relimit gives live sessions the limits of the plan that runs now. g.mu is held.
func (g *Gateway) relimit() {
	for _, s := range g.sessions {
		if class := g.model.Class(s.lease.groups); class.Passage != nil {
			s.lease.limits, s.lease.hours = class.Passage.Limits, g.model.Names.Hours[class.Passage.Limits.Hours]
		}
	}
}

// Pool is what a pool has leased and what is free.
type Pool struct {
	Name   string       `json:"name"`
	Total  int          `json:"total" doc:"Addresses that it leases, of the family that has fewer; 1000000 and more are not counted further."`
	Leased int          `json:"leased"`
	Kept   int          `json:"kept" doc:"Reserved and not leased."`
	Free   int          `json:"free"`
	Leases []pool.Lease `json:"leases" nullable:"false"`
}

// Pools tells of every pool what is leased.
func (g *Gateway) Pools() []Pool {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := []Pool{}
	for i := range g.model.Plan.Pools {
		p := &g.model.Plan.Pools[i]
		have := Pool{Name: p.Name, Leases: g.pools[p.Name].Leases()}
		v4, v6 := 0, 0
		for _, l := range have.Leases {
			n := &v6
			if l.Address.Is4() {
				n = &v4
			}
			*n++
		}
		have.count(p, v4, v6)
		out = append(out, have)
	}
	return out
}

// count counts the family that runs out first.
func (h *Pool) count(p *plan.Pool, used4, used6 int) {
	const most = 1000000
	supply := p.Addresses()
	four, six := supply.Intersect(netset.All4).Count(most), supply.Intersect(netset.All6).Count(most)
	v4 := four > 0 && (six == 0 || four-used4 <= six-used6)
	h.Total = six
	if v4 {
		h.Total = four
	}
	for _, l := range h.Leases {
		switch {
		case l.Address.Is4() != v4:
		case l.Out:
			h.Leased++
		default:
			h.Kept++
		}
	}
	h.Free = max(0, h.Total-h.Leased-h.Kept)
}
