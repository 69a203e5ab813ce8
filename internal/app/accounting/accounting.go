// Package accounting tells RADIUS servers of the sessions of their people: when one begins, how it goes on, when it ends and why (RFC
// 2866).
// What is to be told is kept until a server has confirmed it, through restarts and for as long as none answers.
package accounting

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"time"

	"layeh.com/radius/rfc2866"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/store"
)

const (
	lostAfter = 2 * time.Minute  // without being alive, and without its end being told
	seenEvery = 30 * time.Second // that it is written down that sessions live
	atOnce    = 200              // told in one go, of each source
)

// Service does it.
type Service struct {
	Store   *store.Store
	People  *people.People
	Sources *sources.Service
	Gateway interface {
		Live() ([]gateway.Session, error)
	}
	Log *slog.Logger

	mu       sync.Mutex      // one writer of what is known of sessions
	others   map[string]bool // live sessions of which nobody wants to be told
	seen     time.Time       // when it was last written down which live
	delivery sync.Mutex
	behind   map[string]string // sources whose servers were told nothing last, and why not
}

// servers are the sources that want to be told of sessions, by name.
func (s *Service) servers() map[string]*remote.Server {
	out := map[string]*remote.Server{}
	for _, x := range s.Sources.Sources() {
		if r, ok := x.(*remote.Server); ok && r.Accounts() {
			out[x.Settings().Name] = r
		}
	}
	return out
}

// Keep notes what is to be told of sessions that live, and tells what waits.
func (s *Service) Keep(ctx context.Context, now time.Time) {
	to := s.servers()
	if err := s.note(ctx, to, now); err != nil {
		s.Log.Error("accounting", "error", err)
	}
	s.deliver(ctx, to)
}

// note notes it.
func (s *Service) note(ctx context.Context, to map[string]*remote.Server, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, err := s.Store.AccountedSessions(ctx)
	if err != nil || len(list) == 0 && len(to) == 0 {
		return err
	}
	known := map[string]store.AccountedSession{}
	for _, k := range list {
		known[k.ID] = k
	}
	live, err := s.Gateway.Live()
	if err != nil {
		return nil // nobody knows which live: later
	}
	var seen []string
	before := s.others
	s.others = map[string]bool{}
	for _, x := range live {
		if before[x.ID] {
			s.others[x.ID] = true
			continue
		}
		k, told := known[x.ID]
		delete(known, x.ID)
		if told {
			seen = append(seen, x.ID)
		}
		r := to[k.Source]
		switch {
		case !told:
			err = errors.Join(err, s.begin(ctx, to, x, now))
		case r != nil && now.Sub(k.Told) >= r.Interim():
			k.Told, k.Seen = now, now
			err = errors.Join(err, s.Store.AddAccount(ctx, k, account(k, x, store.AccountInterim, now)))
		}
	}
	if now.Sub(s.seen) < seenEvery {
		return err
	}
	s.seen = now
	err = errors.Join(err, s.Store.SawAccounted(ctx, seen, now))
	for _, k := range known { // whose end nobody told of: the gateway was killed
		if now.Sub(k.Seen) >= lostAfter {
			a := account(k, gateway.Session{ID: k.ID, User: k.User, Since: k.Seen}, store.AccountStop, k.Seen)
			a.Cause = uint32(rfc2866.AcctTerminateCause_Value_NASError)
			err = errors.Join(err, s.Store.AddAccount(ctx, k, a))
		}
	}
	names, runs := s.Sources.Names()
	if !runs { // the service starts
		return err
	}
	dropped, other := s.Store.DropAccounts(ctx, names)
	if dropped > 0 {
		s.Log.Warn("accounting: more waits than is kept, the oldest is left out", "count", dropped)
	}
	return errors.Join(err, other)
}

// begin notes that a session began, where it is one of a source that wants to be told.
func (s *Service) begin(ctx context.Context, to map[string]*remote.Server, x gateway.Session, now time.Time) error {
	name, class := "", [][]byte(nil)
	if !people.IsTester(x.User) {
		name, class = s.People.Accounted(ctx, x.User)
	}
	if to[name] == nil {
		s.others[x.ID] = true
		return nil
	}
	k := store.AccountedSession{ID: x.ID, Source: name, User: x.User, Class: class, Told: now, Seen: now}
	return s.Store.AddAccount(ctx, k, account(k, x, store.AccountStart, x.Since))
}

// account is what is told of a session at a moment.
func account(k store.AccountedSession, x gateway.Session, kind string, at time.Time) store.Account {
	var addresses []string
	for _, a := range x.Addresses {
		addresses = append(addresses, a.String())
	}
	return store.Account{
		Source: k.Source, Session: k.ID, Kind: kind, User: k.User, From: x.From, Addresses: strings.Join(addresses, " "), Class: k.Class, At: at,
		Lasted: at.Sub(x.Since), InBytes: x.InBytes, OutBytes: x.OutBytes, InPackets: x.InPackets, Packets: x.OutPackets,
	}
}

// SessionOver notes that a session ended.
func (s *Service) SessionOver(x gateway.Session, why reason.Reason, at time.Time) {
	to := s.servers()
	if len(to) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.others == nil {
		s.others = map[string]bool{}
	}
	if err := journal.Patiently(journal.EventPatience, func() error { return s.end(context.Background(), to, x, why, at) }); err != nil {
		s.Log.Error("accounting", "error", err)
	}
}

func (s *Service) end(ctx context.Context, to map[string]*remote.Server, x gateway.Session, why reason.Reason, at time.Time) error {
	if s.others[x.ID] {
		return nil
	}
	k, err := s.Store.AccountedSession(ctx, x.ID)
	if errors.Is(err, store.ErrNotFound) { // it was shorter than the time between two looks
		if err = s.begin(ctx, to, x, at); err == nil {
			k, err = s.Store.AccountedSession(ctx, x.ID)
		}
	}
	switch {
	case errors.Is(err, store.ErrNotFound): // nobody wants to be told
		return nil
	case err != nil:
		return err
	}
	a := account(k, x, store.AccountStop, at)
	a.Cause = uint32(causeOf(why.Code))
	return s.Store.AddAccount(ctx, k, a)
}

// causes are those of ends (RFC 2866 §5.10); of others it is that the gateway asked for it.
var causes = map[reason.Code]rfc2866.AcctTerminateCause{
	reason.PeerEnded: rfc2866.AcctTerminateCause_Value_UserRequest, reason.CameAgain: rfc2866.AcctTerminateCause_Value_LostService,
	reason.NoLongerAnswers: rfc2866.AcctTerminateCause_Value_LostCarrier, reason.IdleLimit: rfc2866.AcctTerminateCause_Value_IdleTimeout,
	reason.PersonIdle: rfc2866.AcctTerminateCause_Value_IdleTimeout, reason.LongestLimit: rfc2866.AcctTerminateCause_Value_SessionTimeout,
	reason.PersonLongest: rfc2866.AcctTerminateCause_Value_SessionTimeout, reason.PersonEnds: rfc2866.AcctTerminateCause_Value_SessionTimeout,
	reason.EndedBy: rfc2866.AcctTerminateCause_Value_AdminReset, reason.EndedBySource: rfc2866.AcctTerminateCause_Value_AdminReset,
	reason.GatewayStops: rfc2866.AcctTerminateCause_Value_AdminReboot,
}

func causeOf(code reason.Code) rfc2866.AcctTerminateCause {
	if c, ok := causes[code]; ok {
		return c
	}
	return rfc2866.AcctTerminateCause_Value_NASRequest
}

// statuses are the words of what is kept on the wire.
var statuses = map[string]rfc2866.AcctStatusType{
	store.AccountStart: rfc2866.AcctStatusType_Value_Start, store.AccountInterim: rfc2866.AcctStatusType_Value_InterimUpdate,
	store.AccountStop: rfc2866.AcctStatusType_Value_Stop,
}

// deliver tells what waits, each source by itself: one whose servers do not answer holds up no other.
func (s *Service) deliver(ctx context.Context, to map[string]*remote.Server) {
	if !s.delivery.TryLock() { // it is under way
		return
	}
	defer s.delivery.Unlock()
	var all guard.Group
	var mu sync.Mutex
	behind := map[string]string{}
	for name, r := range to {
		all.Go("accounting.deliver", func() {
			if err := s.tell(ctx, name, r); err != nil {
				mu.Lock()
				defer mu.Unlock()
				behind[name] = err.Error()
			}
		})
	}
	all.Wait()
	s.mu.Lock()
	s.behind = behind
	s.mu.Unlock()
}

func (s *Service) tell(ctx context.Context, name string, r *remote.Server) error {
	list, err := s.Store.Accounts(ctx, name, atOnce)
	for _, a := range list {
		if err := r.Account(ctx, event(a)); err != nil {
			return err
		}
		if err := s.Store.AccountTold(ctx, a.ID); err != nil {
			return err
		}
	}
	return err
}

func event(a store.Account) remote.Event {
	e := remote.Event{
		Session: remote.Session{
			ID: a.Session, User: a.User, Class: a.Class, At: a.At, Lasted: a.Lasted, InBytes: a.InBytes, OutBytes: a.OutBytes, InPackets: a.InPackets,
			Packets: a.Packets,
		},
		Status: statuses[a.Kind], Cause: rfc2866.AcctTerminateCause(a.Cause),
	}
	if at, err := netip.ParseAddrPort(a.From); err == nil {
		e.From = at.Addr()
	}
	for word := range strings.FieldsSeq(a.Addresses) {
		if addr, err := netip.ParseAddr(word); err == nil {
			e.Addresses = append(e.Addresses, addr)
		}
	}
	return e
}

// Behind says of sources whose servers could not be told what waits why, and how much it is; nothing: all was told.
func (s *Service) Behind(ctx context.Context) (map[string]string, error) {
	waiting, err := s.Store.AccountsWaiting(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]string{}
	for name, why := range s.behind {
		out[name] = fmt.Sprintf("%d wait: %s", waiting[name], why)
	}
	return out, err
}
