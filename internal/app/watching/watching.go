// Package watching is what is looked at while the gateway runs: live sessions with what they carried lately, past ones, flows,
// recordings, pools, whether the dialled name leads here, and metrics.
package watching

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Gateway is what is running.
type Gateway interface {
	Sessions() []gateway.Session
	Pools() []gateway.Pool
	Status() gateway.Status
	End(id uint64, why reason.Reason) error
	Flows(user string, peer netip.Addr, service string, most int) []forward.Flow
	Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error
}

// Service looks.
type Service struct {
	Store   *store.Store
	Journal *journal.Service
	Wholes  *compiled.Cache
	Plans   *plans.Service
	Trials  *trials.Service
	Gateway Gateway
	Log     *slog.Logger
	// OutsideAddresses finds the machine's public addresses towards a name server; nil: as nameupdate does.
	OutsideAddresses func(server string) ([]netip.Addr, error)
	// Roots are the authorities that calls to keep the name up to date believe; nil: the system's.
	Roots *x509.CertPool
	Until context.Context // ends when the service does

	live    live
	outside outsideKeeper
	// outsideOf is the gateway of the newest revision, for the one goroutine that keeps the name.
	outsideOf struct {
		number  int
		gateway *plan.Gateway
	}
}

// endedBy is why a session ends that an administrator ends.
func endedBy(ctx context.Context) reason.Reason {
	return reason.Of(reason.EndedBy, reason.With{reason.Administrator: actor.Name(ctx)})
}

// End ends a live session.
func (s *Service) End(ctx context.Context, written string) error {
	id, err := session.ParseID(written)
	if err != nil {
		return refusal.Mistaken(err)
	}
	for _, x := range s.Gateway.Sessions() {
		if x.ID == session.FormatID(id) {
			if err := s.Store.ForgetDevices(ctx, x.User); err != nil { // before it ends: its device comes back at once
				return err
			}
		}
	}
	if err := s.Gateway.End(id, endedBy(ctx)); err != nil {
		return refusal.Missing(err.Error())
	}
	return nil
}

// EndOf ends all live sessions of a user, and gives how many.
func (s *Service) EndOf(ctx context.Context, user string) (int, error) {
	n := 0
	if err := s.Store.ForgetDevices(ctx, user); err != nil {
		return 0, err
	}
	for _, x := range s.Gateway.Sessions() {
		id, err := session.ParseID(x.ID)
		if x.User == user && err == nil && s.Gateway.End(id, endedBy(ctx)) == nil {
			n++
		}
	}
	if n == 0 {
		return 0, refusal.Missing(fmt.Sprintf("%q has no live session", user))
	}
	return n, nil
}

// Flows lists live flows with their counters: of a user, with an address at the other end, of a service as tcp/443, where given.
func (s *Service) Flows(user, peer, service string, most int) ([]forward.Flow, error) {
	var at netip.Addr
	if peer != "" {
		var err error
		if at, err = netip.ParseAddr(peer); err != nil {
			return nil, refusal.Invalid(fmt.Sprintf("peer: %q is no address", peer))
		}
	}
	return s.Gateway.Flows(user, at, service, most), nil
}

// Pools lists what the running plan's pools have leased, what is kept, and what is free; with the filter in a pool's name, a holder's, or
// an address.
func (s *Service) Pools(filter string) []gateway.Pool {
	out := []gateway.Pool{}
	for _, p := range s.Gateway.Pools() {
		kept := p.Leases[:0]
		for _, l := range p.Leases {
			if filter == "" || strings.Contains(p.Name+" "+l.Holder+" "+l.Address.String(), filter) {
				kept = append(kept, l)
			}
		}
		p.Leases = kept
		if len(kept) > 0 || strings.Contains(p.Name, filter) {
			out = append(out, p)
		}
	}
	return out
}

// Recording is a session's packets, as pcapng, until a limit is reached.
type Recording struct {
	s      *Service
	id     uint64
	user   string
	limits gateway.RecordLimits
}

// Record prepares a recording of a session, by its id or the name of a user who has one, at stations (none: all).
func (s *Service) Record(of string, stations []string, octets int64, most time.Duration) (*Recording, error) {
	for _, station := range stations {
		if station != gateway.StationTunnel && station != gateway.StationInside {
			return nil, refusal.Invalid(fmt.Sprintf("there is no station %q to record at; there are %s and %s", station,
				gateway.StationTunnel, gateway.StationInside))
		}
	}
	live := s.Gateway.Sessions()
	i := slices.IndexFunc(live, func(x gateway.Session) bool { return x.ID == of || x.User == of })
	if i < 0 {
		return nil, refusal.Missing(fmt.Sprintf("%q is no live session, and no user who has one", of))
	}
	id, err := session.ParseID(live[i].ID)
	if err != nil {
		return nil, err
	}
	return &Recording{s, id, live[i].User, gateway.RecordLimits{Stations: stations, Octets: octets, Time: most}}, nil
}

// To writes it. That it is made is written into the journal.
func (r *Recording) To(ctx context.Context, w io.Writer) {
	r.s.Journal.Tell(reason.Of(reason.Recorded, reason.With{
		reason.Administrator: actor.Name(ctx), reason.Seconds: strconv.Itoa(int(r.limits.Time.Seconds())),
	}), r.user)
	if err := r.s.Gateway.Record(ctx, r.id, r.limits, w); err != nil && !errors.Is(err, context.Canceled) {
		r.s.Log.Warn("recording", "error", err)
	}
}
