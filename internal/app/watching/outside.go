package watching

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/nameupdate"
)

// Outside is whether the dialled name leads to where the gateway is.
type Outside struct {
	Name      string       `json:"name,omitempty" doc:"The name that people dial; none: no name is kept up to date."`
	Has       []netip.Addr `json:"has" nullable:"false" doc:"The gateway's public addresses at the moment."`
	Published []netip.Addr `json:"published" nullable:"false" doc:"What the name server says."`
	At        time.Time    `json:"at,omitzero" doc:"When it was last looked at."`
	Problem   string       `json:"problem,omitempty"`
}

// outsideKeeper keeps the dialled name at the gateway's addresses while a plan asks for it.
type outsideKeeper struct {
	mu   sync.Mutex
	last Outside
	next time.Time
}

const (
	updateEvery = time.Minute      // if the plan does not say
	updateTTL   = time.Minute      // if the plan does not say
	keepTime    = 15 * time.Second // for one round
	lookEvery   = time.Second      // whether a plan asks for it by now
)

// Outside is how it was when it was looked at last.
func (s *Service) Outside() Outside {
	s.outside.mu.Lock()
	defer s.outside.mu.Unlock()
	out := s.outside.last
	out.Has, out.Published = append([]netip.Addr{}, out.Has...), append([]netip.Addr{}, out.Published...)
	return out
}

// KeepOutside looks whether the name leads to the gateway, and mends it. What goes wrong is written into the journal once.
func (s *Service) KeepOutside(ctx context.Context, now time.Time) {
	k := &s.outside
	if now.Before(k.next) {
		return
	}
	g := s.runningGateway(ctx)
	if g == nil || g.Outside.Update == nil {
		k.mu.Lock()
		k.last = Outside{}
		k.mu.Unlock()
		k.next = now.Add(lookEvery)
		return
	}
	u := g.Outside.Update
	k.next = now.Add(u.Every.Or(updateEvery))
	ctx, cancel := context.WithTimeout(ctx, keepTime)
	defer cancel()
	o := Outside{Name: g.Dial, At: now.UTC()}
	changed, err := s.mendName(ctx, u, &o)
	if err != nil {
		o.Problem = err.Error()
	}
	k.mu.Lock()
	before := k.last
	k.last = o
	k.mu.Unlock()
	switch {
	case err != nil && before.Problem != o.Problem:
		s.Journal.Tell(reason.Of(reason.NameFails, reason.With{reason.Name: g.Dial, reason.Error: o.Problem}), "")
	case changed:
		s.Journal.Tell(reason.Of(reason.NameLeads, reason.With{reason.Name: g.Dial, reason.Addresses: addressWords(o.Has)}), "")
	case err == nil && before.Problem != "":
		s.Journal.Tell(reason.Of(reason.NameKept, reason.With{reason.Name: g.Dial}), "")
	}
}

func (s *Service) mendName(ctx context.Context, u *plan.NameUpdate, o *Outside) (changed bool, err error) {
	secret, err := s.Store.Shared(ctx, u.Key)
	if err != nil {
		return false, fmt.Errorf("there is no secret %q: yl secret keep %s", u.Key, u.Key)
	}
	order := nameupdate.Order{
		Server: u.Server, Zone: u.Zone, Name: o.Name, Key: u.Key, Secret: string(secret), Algorithm: u.Algorithm,
		TTL: u.TTL.Or(updateTTL),
	}
	addresses := s.OutsideAddresses
	if addresses == nil {
		addresses = nameupdate.Outside
	}
	if o.Has, err = addresses(u.Server); err != nil {
		return false, err
	}
	if o.Published, err = order.Published(ctx); err != nil || slices.Equal(o.Has, o.Published) {
		return false, err
	}
	if err := order.Replace(ctx, o.Has); err != nil {
		return false, err
	}
	o.Published, err = order.Published(ctx)
	return true, err
}

func (s *Service) runningGateway(ctx context.Context) *plan.Gateway {
	number, err := s.Store.NewestNumber(ctx)
	if err != nil || number == 0 {
		return nil
	}
	if number != s.outsideOf.number { // the document is read only when it is another one
		newest, err := s.Store.Revision(ctx, number)
		if err != nil {
			return nil
		}
		s.outsideOf.number, s.outsideOf.gateway = number, nil
		if doc, err := s.Wholes.Read(newest.Text); err == nil && len(doc.Plan.Gateways) > 0 {
			s.outsideOf.gateway = &doc.Plan.Gateways[0]
		}
	}
	return s.outsideOf.gateway
}
