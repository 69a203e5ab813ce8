package gateway

import (
	"context"
	"errors"
	"io"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// Runner runs at most one gateway: the first plan starts it, later ones change it.
type Runner struct {
	cfg     Config
	applied sync.Mutex // one after the other
	running atomic.Pointer[Gateway]
	number  atomic.Int64 // revision that was applied last
	own     atomic.Pointer[netset.Addrs]
}

// Revision is the revision that was applied last; 0: none.
func (r *Runner) Revision() int { return int(r.number.Load()) }

// NewRunner waits for a plan.
func NewRunner(cfg Config) *Runner { return &Runner{cfg: cfg} }

// Apply makes a plan what runs, at once. It gives the users whose sessions had to end.
func (r *Runner) Apply(set Settings) (ended []string, err error) {
	r.applied.Lock()
	defer r.applied.Unlock()
	if g := r.gateway(); g != nil {
		ended, err = g.Commit(set)
	} else if g, err = Start(context.Background(), r.cfg, set); err == nil {
		if own := r.own.Load(); own != nil {
			g.Owns(*own)
		}
		r.running.Store(g)
	}
	if err == nil {
		r.number.Store(int64(set.Revision))
	}
	return ended, err
}

func (r *Runner) gateway() *Gateway { return r.running.Load() }

// FromInside takes packets from the inside and the internet; before there is a plan they are lost.
func (r *Runner) FromInside(batch []inside.Packet, outside bool) {
	if g := r.gateway(); g != nil {
		g.FromInside(batch, outside)
	}
}

// Owns is told which addresses the machine has beside those of the plan; a gateway that starts later is told as well.
func (r *Runner) Owns(own netset.Addrs) {
	r.own.Store(&own)
	if g := r.gateway(); g != nil {
		g.Owns(own)
	}
}

// Sessions lists the live sessions.
func (r *Runner) Sessions() []Session {
	if g := r.gateway(); g != nil {
		return g.Sessions()
	}
	return nil
}

// Status gives the counters.
func (r *Runner) Status() Status {
	if g := r.gateway(); g != nil {
		return g.Status()
	}
	return Status{Dropped: map[string]uint64{}, Rules: map[string]forward.RuleCounters{}, Inside: r.Inside()}
}

// Inside tells how the side away from the tunnels is.
func (r *Runner) Inside() inside.Observed {
	if g := r.gateway(); g != nil {
		return g.Inside()
	}
	if r.cfg.Inside == nil {
		return inside.None()
	}
	return inside.Observed{Problems: []inside.Problem{inside.Told(reason.Of(reason.NothingRunsHere, nil))}}
}

// End ends a session.
func (r *Runner) End(id uint64, why reason.Reason) error {
	if g := r.gateway(); g != nil {
		return g.End(id, why)
	}
	return errors.New("no gateway is running")
}

// Limit tells a user's sessions what that person's limits are now.
func (r *Runner) Limit(user string, l login.Limits) {
	if g := r.gateway(); g != nil {
		g.Limit(user, l)
	}
}

// Stop ends the gateway, if one runs.
func (r *Runner) Stop() {
	r.applied.Lock()
	defer r.applied.Unlock()
	if g := r.running.Swap(nil); g != nil {
		g.Stop()
	}
}

// Outdated tells why a live session would have to end under another plan; empty if it can go on.
func Outdated(m *site.Model, s Session) reason.Reason {
	class := m.Class(s.Groups)
	switch {
	case class.Shut != nil:
		return reason.Of(reason.PlanOtherTunnel, reason.With{reason.Tunnel: s.Tunnel})
	case class.Passage == nil:
		return reason.Of(reason.PlanNoPassage, nil)
	case class.Passage.Name != s.Passage:
		return reason.Of(reason.PlanOtherPassage, reason.With{reason.Passage: class.Passage.Name})
	case !slices.Contains(class.Passage.Tunnels, s.Tunnel) || m.Names.Tunnels[s.Tunnel] == nil || m.Names.Tunnels[s.Tunnel].Off:
		return reason.Of(reason.PlanOtherTunnel, reason.With{reason.Tunnel: s.Tunnel})
	case keptForOther(m, class.Passage.Passage.Pool, s):
		return reason.Of(reason.PlanAddressKept, nil)
	case !class.Passage.Pool.Covers(s.leased()),
		!slices.Equal(prefixesOf(m.Names.Pools[class.Passage.Passage.Pool], s.Addresses), s.Prefixes):
		return reason.Of(reason.PlanAddressGone, reason.With{reason.Pool: class.Passage.Passage.Pool})
	case class.Passage.Factor.Asks(s.Groups) && !s.Held && s.Coded.IsZero() && !class.Passage.Factor.Excepts(s.at()):
		return reason.Of(reason.PlanAsksFactor, nil)
	case !class.Passage.Routes.Equal(s.told.Routes):
		return reason.Of(reason.PlanOtherRoutes, nil)
	case !slices.Equal(class.Passage.DNS.Servers, s.told.DNS) || !slices.Equal(domainsOf(class.Passage.DNS), s.told.Domains):
		return reason.Of(reason.PlanOtherNames, nil)
	}
	return reason.Reason{}
}

// at is where the device is seen.
func (s Session) at() netip.Addr {
	at, _ := netip.ParseAddrPort(s.From)
	return at.Addr()
}

func (s Session) leased() netset.Addrs {
	return netset.OfAddrs(s.Addresses...).Union(netset.OfPrefixes(s.Prefixes...))
}

func keptForOther(m *site.Model, pool string, s Session) bool {
	p := m.Names.Pools[pool]
	return p != nil && slices.ContainsFunc(p.Reserved,
		func(r plan.Reservation) bool { return r.User != s.User && s.leased().Contains(r.Address) })
}

// ErrNoKernel says that the gateway's inside is no machine whose kernel routes.
var ErrNoKernel = errors.New("this gateway's inside is no machine of its own: there is nothing to show")

// Lookup asks the machine where it would send a packet; false where it has no kernel that routes, or no plan runs.
func (r *Runner) Lookup(dst netip.Addr) (inside.Looked, bool) {
	if k, ok := r.cfg.Inside.(Kernel); ok {
		return k.Lookup(dst)
	}
	return inside.Looked{}, false
}

// Preview tells what a plan would make of the machine, and makes nothing.
func (r *Runner) Preview(p *plan.Plan, name string) (inside.Preview, error) {
	k, ok := r.cfg.Inside.(Kernel)
	if !ok {
		return inside.Preview{}, ErrNoKernel
	}
	m, err := site.Compile(p, name)
	if err != nil {
		return inside.Preview{}, err
	}
	return k.Preview(m.Wanted()), nil
}

// Pools tells of every pool what is leased.
func (r *Runner) Pools() []Pool {
	if g := r.gateway(); g != nil {
		return g.Pools()
	}
	return []Pool{}
}

// Flows lists live flows of a user, with one end at an address and service; none given: of everybody, of all.
func (r *Runner) Flows(user string, peer netip.Addr, service string, most int) []forward.Flow {
	if g := r.gateway(); g != nil {
		return g.flows(func(who string) bool { return user == "" || who == user }, peer, service, most)
	}
	return []forward.Flow{}
}

// Follow keeps a record of what becomes of a user's logins and packets from now on; false: it does not.
func (r *Runner) Follow(user string) bool {
	g := r.gateway()
	return g != nil && g.engine.Follow(user, time.Now())
}

// Followed gives that record, which ends with it; false: there is none.
func (r *Runner) Followed(user string) (forward.Evidence, bool) {
	if g := r.gateway(); g != nil {
		return g.engine.Followed(user)
	}
	return forward.Evidence{}, false
}

// Written waits until every event so far is written, or the context ends.
func (r *Runner) Written(ctx context.Context) {
	if g := r.gateway(); g != nil {
		g.Written(ctx)
	}
}

// Record writes a session's packets until a limit is reached.
func (r *Runner) Record(ctx context.Context, id uint64, limits RecordLimits, w io.Writer) error {
	if g := r.gateway(); g != nil {
		return g.Record(ctx, id, limits, w)
	}
	return ErrNoSession
}
