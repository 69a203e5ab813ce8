package watching

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/nameupdate"
)

// Outside is whether the dialled name leads to where the gateway is.
type Outside struct {
	Name      string       `json:"name,omitempty" doc:"The name that people dial; none: no name is kept up to date."`
	Has       []netip.Addr `json:"has" nullable:"false" doc:"The gateway's public addresses at the moment."`
	Published []netip.Addr `json:"published" nullable:"false" doc:"What the name server says; nothing where only calls are made."`
	At        time.Time    `json:"at,omitzero" doc:"When it was last looked at."`
	Problem   string       `json:"problem,omitempty"`
	Calls     []Called     `json:"calls" nullable:"false" doc:"The HTTP calls that the plan asks for."`
}

// Called is how a call that keeps the name up to date went.
type Called struct {
	Name    string       `json:"name"`
	Told    []netip.Addr `json:"told" nullable:"false" doc:"The addresses that it told last; none where whoever is called sees for itself."`
	At      time.Time    `json:"at,omitzero" doc:"When it was last made with success."`
	Tried   time.Time    `json:"tried,omitzero" doc:"When it was last looked at."`
	Problem string       `json:"problem,omitempty"`

	as     plan.NameCall // that it was made of
	next   time.Time
	failed int // times, one after the other
}

// outsideKeeper keeps the dialled name at the gateway's addresses while a plan asks for it.
type outsideKeeper struct {
	mu    sync.Mutex
	last  Outside
	next  time.Time // of the update in the DNS
	calls map[string]Called
	of    *plan.Gateway // that they are of
}

const (
	updateEvery = time.Minute      // if the plan does not say
	updateTTL   = time.Minute      // if the plan does not say
	keepTime    = 15 * time.Second // for one round
	callMost    = time.Hour        // between two tries of a call that fails
)

// Outside is how it was when it was looked at last.
func (s *Service) Outside() Outside {
	s.outside.mu.Lock()
	defer s.outside.mu.Unlock()
	out := s.outside.last
	out.Has, out.Published = append([]netip.Addr{}, out.Has...), append([]netip.Addr{}, out.Published...)
	out.Calls = []Called{}
	if g := s.outside.of; g != nil {
		for _, c := range g.Outside.Calls {
			one := s.outside.calls[c.Name]
			one.Name, one.Told = c.Name, append([]netip.Addr{}, one.Told...)
			out.Name, out.Calls = g.Dial, append(out.Calls, one)
		}
	}
	return out
}

// KeepOutside looks whether the name leads to the gateway, and mends it in every way that the plan names. What goes wrong is written into
// the journal once.
func (s *Service) KeepOutside(ctx context.Context, now time.Time) {
	k := &s.outside
	g := s.runningGateway(ctx)
	k.mu.Lock()
	if k.of != g { // another revision: each way is looked at anew
		k.of, k.next, k.last = g, time.Time{}, Outside{}
		kept := map[string]Called{}
		if g != nil {
			for _, c := range g.Outside.Calls {
				one := k.calls[c.Name]
				if one.Problem != "" || !reflect.DeepEqual(one.as, c) { // it is made anew, whatever it told before
					one.At = time.Time{}
				}
				one.as, one.next, one.failed = c, time.Time{}, 0
				kept[c.Name] = one
			}
		}
		k.calls = kept
	}
	k.mu.Unlock()
	if g == nil {
		return
	}
	var all guard.Group // one that hangs keeps no other waiting
	defer all.Wait()
	if g.Outside.Update != nil && !now.Before(k.next) {
		k.next = now.Add(g.Outside.Update.Every.Or(updateEvery))
		all.Go("watching.KeepOutside", func() { s.keepPublished(ctx, g, now) })
	}
	for _, c := range g.Outside.Calls {
		k.mu.Lock()
		one := k.calls[c.Name]
		k.mu.Unlock()
		if !now.Before(one.next) {
			all.Go("watching.KeepOutside", func() { s.keepCalled(ctx, g, c, one, now) })
		}
	}
}

// keepPublished keeps the name's records at its name server.
func (s *Service) keepPublished(ctx context.Context, g *plan.Gateway, now time.Time) {
	k := &s.outside
	ctx, cancel := context.WithTimeout(ctx, keepTime)
	defer cancel()
	o := Outside{Name: g.Dial, At: now.UTC()}
	changed, err := s.mendName(ctx, g.Outside.Update, &o)
	if err != nil {
		o.Problem = err.Error()
	}
	k.mu.Lock()
	before := k.last
	k.last = o
	k.mu.Unlock()
	s.tellName(g.Dial, err, before.Problem, changed, o.Has)
}

// tellName writes what became of a name into the journal, once.
func (s *Service) tellName(name string, err error, before string, changed bool, has []netip.Addr) {
	switch {
	case err != nil && before != err.Error():
		s.Journal.Tell(reason.Of(reason.NameFails, reason.With{reason.Name: name, reason.Error: err.Error()}), "")
	case err != nil:
	case changed:
		leads := cmp.Or(addressWords(has), "the address it is called from")
		s.Journal.Tell(reason.Of(reason.NameLeads, reason.With{reason.Name: name, reason.Addresses: leads}), "")
	case before != "":
		s.Journal.Tell(reason.Of(reason.NameKept, reason.With{reason.Name: name}), "")
	}
}

// keepCalled makes a call, where the addresses changed since it was made with success, or its time has come.
func (s *Service) keepCalled(ctx context.Context, g *plan.Gateway, c plan.NameCall, one Called, now time.Time) {
	k := &s.outside
	before, told := one.Problem, one.Told
	first := one.At.IsZero()
	one.Tried = now.UTC()
	made, err := s.call(ctx, g, c, &one, now)
	one.Problem, one.next = "", now.Add(c.Every.Or(updateEvery))
	if err != nil {
		one.Problem = err.Error()
		one.next = now.Add(min(c.Every.Or(updateEvery)<<min(one.failed, 12), callMost))
		one.failed++
	} else {
		one.failed = 0
	}
	k.mu.Lock()
	k.calls[c.Name] = one
	k.mu.Unlock()
	s.tellName(g.Dial+", by call "+c.Name, err, before, made && (first || !slices.Equal(told, one.Told)), one.Told)
}

func (s *Service) call(ctx context.Context, g *plan.Gateway, c plan.NameCall, one *Called, now time.Time) (made bool, err error) {
	caller := nameupdate.Caller{NameCall: c, Roots: s.Roots}
	if c.Secret != "" {
		secret, err := s.Store.Shared(ctx, c.Secret)
		if err != nil {
			return false, fmt.Errorf("there is no secret %q: yl secret keep %s --kind password", c.Secret, c.Secret)
		}
		caller.Value = string(secret)
	}
	var has []netip.Addr
	if c.Tells() {
		to, err := caller.To()
		if err != nil {
			return false, err
		}
		if has, err = s.publicAddresses(to); err != nil {
			return false, err
		}
	}
	again := c.Again.Or(0)
	if !one.At.IsZero() && slices.Equal(has, one.Told) && (again == 0 || now.Before(one.At.Add(again))) && one.failed == 0 {
		return false, nil
	}
	if err := caller.Do(ctx, g.Dial, has); err != nil {
		return false, err
	}
	one.Told, one.At = has, now.UTC()
	return true, nil
}

func (s *Service) publicAddresses(towards string) ([]netip.Addr, error) {
	if s.OutsideAddresses != nil {
		return s.OutsideAddresses(towards)
	}
	return nameupdate.Outside(towards)
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
	if o.Has, err = s.publicAddresses(u.Server); err != nil {
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
