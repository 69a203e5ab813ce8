package gateway

import (
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/pool"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/core/tunnel"
)

// grant chooses the passage by the groups of the authenticated person, holds it against the passage's limits, and leases. At one person's
// limit the oldest session ends where the plan says so.
func (g *Gateway) grant(r tunnel.Request, kind string) (*session.Session, tunnel.Grant) {
	var passage string
	g.engine.Model().Class(r.Groups).Ready() // here, where nobody else waits for it
	taken, factor := 0, g.factorOf(r)
	for range mostEnded {
		s, grant, oldest := g.tryGrant(r, kind, factor)
		if s != nil && g.takenByOthers(s) {
			if taken++; taken == mostTaken {
				return nil, tunnel.Grant{
					Refusal: reason.Of(reason.PoolOthers, reason.With{
						reason.Pool: s.Pool, reason.Passage: s.Passage, reason.Count: strconv.Itoa(taken),
					}), Exhausted: true,
				}
			}
			continue
		}
		if oldest == nil {
			return s, grant
		}
		passage = oldest.Passage
		why := reason.Of(reason.LoggedInElsewhere, reason.With{reason.Passage: passage})
		if leaves(r, oldest, kind) {
			why = reason.Of(reason.CameAgain, reason.With{reason.Passage: passage})
		}
		g.end(oldest, why)
	}
	return nil, tunnel.Grant{Refusal: reason.Of(reason.TooManySessions, reason.With{reason.Passage: passage, reason.Count: "too many"})}
}

// older is a session of the same authenticated person on the same device, which says that it has none: it was lost there. g.mu is held.
func (g *Gateway) older(r tunnel.Request, kind, passage string) *session.Session {
	for _, s := range g.sessions.Theirs(passage, r.User) {
		if leaves(r, s, kind) {
			return s
		}
	}
	return nil
}

func leaves(r tunnel.Request, s *session.Session, kind string) bool {
	return r.Alone && r.Device != "" && s.User == r.User && s.Device == r.Device && s.Kind == kind
}

// mostTaken is how many addresses are tried that others turn out to have, each in a third of a second, within what a login may take.
const mostTaken = 16

// mostEnded is how many older sessions one login ends: more come only where others of theirs come in at the same time.
const mostEnded = 64

// tryGrant is grant without ending anybody: where somebody must go first, it is told who.
func (g *Gateway) tryGrant(r tunnel.Request, kind string, factor factor) (s *session.Session, grant tunnel.Grant, oldest *session.Session) {
	g.mu.Lock()
	defer g.mu.Unlock()
	refused := func(why reason.Reason) (*session.Session, tunnel.Grant, *session.Session) {
		return nil, tunnel.Grant{Refusal: why}, nil
	}
	class := g.model.Class(r.Groups)
	if class.Shut != nil {
		return refused(reason.Of(reason.PassageShut, reason.With{
			reason.Passage: class.Shut.Name, reason.Tunnel: strings.Join(g.model.Off(class.Shut), ", "),
		}))
	}
	if class.Passage == nil {
		return refused(reason.Of(reason.NoPassage, reason.With{reason.Groups: class.Name()}))
	}
	p := class.Passage
	if !slices.Contains(p.Tunnels, r.Tunnel) {
		return refused(reason.Of(reason.OtherTunnel, reason.With{
			reason.Passage: p.Name, reason.Tunnels: strings.Join(p.Tunnels, ", "), reason.Tunnel: r.Tunnel,
		}))
	}
	if why := g.barred(r, time.Now()); !why.None() {
		return refused(why)
	}
	why, oldest := g.full(p, r)
	if older := g.older(r, kind, p.Name); older != nil && (why.None() || why.Code != reason.OutsideHours) {
		return nil, tunnel.Grant{}, older
	}
	if !why.None() {
		return refused(why)
	}
	if oldest != nil {
		return nil, tunnel.Grant{}, oldest
	}
	supply := g.pools[p.Passage.Pool]
	if supply != nil {
		supply.Forgive(time.Now())
	}
	if supply == nil {
		return nil, tunnel.Grant{Refusal: reason.Of(reason.NoPool, reason.With{reason.Passage: p.Name}), Exhausted: true}, nil
	}
	addrs, err := supply.Lease(r.User, p.Limits.Most(r.Want4), p.Limits.Most(r.Want6), r.Limits.Addresses...)
	var own *pool.OwnError
	if errors.As(err, &own) {
		code := reason.OwnAddressOutside
		if own.Taken {
			code = reason.OwnAddressTaken
		}
		return refused(reason.Of(code, reason.With{
			reason.Addresses: own.Address.String(), reason.Pool: p.Passage.Pool, reason.Passage: p.Name,
		}))
	}
	if err == pool.ErrExhausted {
		return nil, tunnel.Grant{
			Refusal: reason.Of(reason.PoolExhausted, reason.With{
				reason.Pool: p.Passage.Pool, reason.Passage: p.Name, reason.Count: strconv.Itoa(supply.Leased()),
			}),
			Exhausted: true,
		}, nil
	}
	mtu, clamp := mtuOf(g.model.Names.Tunnels[r.Tunnel])
	s = &session.Session{
		ID: newID(), Gateway: g.name, User: r.User, Groups: r.Groups, Passage: p.Name, Pool: p.Passage.Pool, Tunnel: r.Tunnel, Kind: kind,
		Algorithms: r.Algorithms, Device: r.Device, Since: time.Now(), Routes: p.Routes, DNS: slices.Clone(p.DNS.Servers), Domains: domainsOf(p.DNS), MTU: mtu,
		ClampMSS: clamp, Addresses: addrs, Prefixes: prefixesOf(g.model.Names.Pools[p.Passage.Pool], addrs), Key: r.Key, SharedKeys: r.SharedKeys, SafeLogin: r.SafeLogin, SafeTraffic: r.SafeTraffic,
	}
	s.SetLimits(r.Limits)
	s.LoggedIn = s.Since
	if back, ok := read(r.Back); ok {
		s.LoggedIn, s.Key, s.SharedKeys = back.At, back.Key, back.Shared // taking the key back ends this session too
	}
	if s.Coded = factor.given; factor.missing(g.model, r, s.Since) {
		s.Hold()
	}
	for !g.sessions.Add(s) {
		s.ID = newID()
	}
	grant = tunnel.Grant{Configuration: tunnel.Configuration{
		Addresses: addrs, Prefixes: s.Prefixes, DNS: p.DNS.Servers, Domains: s.Domains, Routes: p.Routes, Full: p.Passage.Routes.Full,
	}, OnePlace: p.Limits.OnePlace, Patience: time.Duration(p.Limits.Patience)}
	g.remember(&grant, s, r, time.Duration(p.Limits.Longest))
	return s, grant, nil
}

// prefixesOf are those that leased addresses stand for.
func prefixesOf(p *plan.Pool, addrs []netip.Addr) (out []netip.Prefix) {
	for _, a := range addrs {
		if p != nil && p.PrefixEach > 0 && !a.Is4() {
			if prefix, err := a.Prefix(p.PrefixEach); err == nil {
				out = append(out, prefix)
			}
		}
	}
	return out
}

// domainsOf is all domains that go through the tunnel.
func domainsOf(d plan.DNS) []string { return append(slices.Clone(d.Search), d.Domains...) }

// full tells why the passage's limits let nobody more in; none if they do. oldest is whose session must end first. g.mu is held.
func (g *Gateway) full(p *site.Passage, r tunnel.Request) (why reason.Reason, oldest *session.Session) {
	hours := g.model.Names.Hours[p.Limits.Hours]
	if p.Limits.Hours != "" && (hours == nil || !hours.Hold(time.Now().In(g.zone))) {
		return reason.Of(reason.OutsideHours, reason.With{
			reason.Passage: p.Name, reason.Hours: p.Limits.Hours, reason.When: words(hours),
		}), nil
	}
	mine := g.sessions.Theirs(p.Name, r.User)
	if most := p.Limits.Each(); len(mine) >= most {
		if p.Limits.NewestWins {
			return reason.Reason{}, mine[0]
		}
		return reason.Of(reason.TooManySessions, reason.With{reason.Passage: p.Name, reason.Count: strconv.Itoa(len(mine))}), nil
	}
	if most := r.Limits.Sessions; most > 0 {
		all := g.sessions.Whose(r.User)
		switch {
		case len(all) < most:
		case p.Limits.NewestWins:
			return reason.Reason{}, all[0]
		default:
			return reason.Of(reason.PersonSessions, reason.With{reason.Count: strconv.Itoa(len(all))}), nil
		}
	}
	if most, all := p.Limits.Sessions, g.sessions.By(p.Name); most > 0 && all >= most {
		return reason.Of(reason.PassageFull, reason.With{reason.Passage: p.Name, reason.Count: strconv.Itoa(all)}), nil
	}
	return reason.Reason{}, nil
}

// barred tells why a person's own limits keep them outside whatever their passage says; none: they do not. g.mu is held.
func (g *Gateway) barred(r tunnel.Request, now time.Time) reason.Reason {
	l := r.Limits
	hours := g.model.Names.Hours[l.Hours]
	switch {
	case !l.Until.IsZero() && !now.Before(l.Until):
		return reason.Of(reason.PersonOver, reason.With{reason.When: g.moment(l.Until)})
	case len(l.Tunnels) > 0 && !slices.Contains(l.Tunnels, r.Tunnel):
		return reason.Of(reason.PersonTunnel, reason.With{reason.Tunnels: strings.Join(l.Tunnels, ", "), reason.Tunnel: r.Tunnel})
	case l.Hours != "" && (hours == nil || !hours.Hold(now.In(g.zone))):
		return reason.Of(reason.PersonHours, reason.With{reason.Hours: l.Hours, reason.When: words(hours)})
	}
	return reason.Reason{}
}

// moment writes one as the site's clocks show it.
func (g *Gateway) moment(t time.Time) string { return t.In(g.zone).Format("2006-01-02 15:04") }

func words(h *plan.Hours) string {
	if h == nil {
		return "which the plan does not have"
	}
	return h.String()
}

// Limit tells a user's sessions what that person's limits are now; those that they end, end.
func (g *Gateway) Limit(user string, l login.Limits) {
	theirs := g.sessions.Whose(user)
	for _, s := range theirs {
		s.SetLimits(l)
	}
	g.enforce(theirs, time.Now())
}

// enforce ends those of some sessions whose time is up.
func (g *Gateway) enforce(some []*session.Session, now time.Time) {
	g.mu.Lock()
	m, zone := g.model, g.zone
	g.mu.Unlock()
	for _, s := range some {
		why := timeUp(m, zone, s, now)
		if why.None() {
			why = g.factorless(m, s, now)
		}
		if !why.None() {
			g.end(s, why)
		}
	}
}

// timeUp tells why a session must end by the limits of the plan that runs; none if it may go on.
func timeUp(m *site.Model, zone *time.Location, s *session.Session, now time.Time) reason.Reason {
	class := m.Class(s.Groups)
	if class.Passage == nil {
		return reason.Reason{} // a commit ends it
	}
	own := s.Limits()
	switch hours := m.Names.Hours[own.Hours]; {
	case !own.Until.IsZero() && !now.Before(own.Until):
		return reason.Of(reason.PersonEnds, reason.With{reason.When: own.Until.In(zone).Format("2006-01-02 15:04")})
	case len(own.Tunnels) > 0 && !slices.Contains(own.Tunnels, s.Tunnel):
		return reason.Of(reason.PersonTunnelGone, reason.With{reason.Tunnel: s.Tunnel})
	case own.Hours != "" && (hours == nil || !hours.Hold(now.In(zone))):
		return reason.Of(reason.PersonHoursOver, reason.With{reason.Hours: own.Hours})
	}
	silent := silence(s, now)
	switch {
	case own.Longest > 0 && now.Sub(s.LoggedIn) >= own.Longest:
		return reason.Of(reason.PersonLongest, reason.With{reason.Limit: plan.Duration(own.Longest).String()})
	case own.Idle > 0 && silent >= own.Idle:
		return reason.Of(reason.PersonIdle, reason.With{reason.Limit: plan.Duration(own.Idle).String()})
	}
	l := class.Passage.Limits
	if longest := time.Duration(l.Longest); longest > 0 && now.Sub(s.LoggedIn) >= longest {
		return reason.Of(reason.LongestLimit, reason.With{reason.Limit: l.Longest.String(), reason.Passage: s.Passage})
	}
	if hours := m.Names.Hours[l.Hours]; l.Hours != "" && (hours == nil || !hours.Hold(now.In(zone))) {
		return reason.Of(reason.HoursOver, reason.With{reason.Hours: l.Hours})
	}
	if idle := time.Duration(l.Idle); idle > 0 && silent >= idle {
		return reason.Of(reason.IdleLimit, reason.With{reason.Limit: l.Idle.String()})
	}
	return reason.Reason{}
}

// silence is for how long a session's device has sent nothing.
func silence(s *session.Session, now time.Time) time.Duration {
	s.Lock()
	last := s.LastIn
	s.Unlock()
	if last.Before(s.Since) {
		last = s.Since
	}
	return now.Sub(last)
}

// Pool is what a pool has leased and what is free.
type Pool struct {
	Gateway string       `json:"gateway"`
	Name    string       `json:"name"`
	Total   int          `json:"total" doc:"Addresses, or prefixes, that it leases, of the family that has fewer; 1000000 and more are not counted further."`
	Leased  int          `json:"leased"`
	Kept    int          `json:"kept" doc:"Reserved and not leased."`
	Free    int          `json:"free"`
	Leases  []pool.Lease `json:"leases" nullable:"false"`
}

// Pools tells of every pool what is leased.
func (g *Gateway) Pools() []Pool {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := []Pool{}
	for i := range g.model.Plan.Pools {
		p := &g.model.Plan.Pools[i]
		have := Pool{Gateway: g.name, Name: p.Name, Leases: g.pools[p.Name].Leases()}
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
	four, six := pool.Room(supply, true, 0, most), pool.Room(supply, false, p.PrefixEach, most)
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
