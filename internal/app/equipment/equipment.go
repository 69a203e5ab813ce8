// Package equipment answers what else on the site's network asks about people, by RADIUS (RFC 2865): switches, access points, other
// servers.
// They are the same people, with the same groups, wherever they are kept, and what is decided about them stands in the same journal.
package equipment

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people"
	"yellowlantern/internal/radius"
	"yellowlantern/internal/store"
)

const (
	judgeTime = 10 * time.Second
	toldEvery = time.Minute // that somebody sends what counts for nothing, and what is refused again and again
	mostTold  = 200         // refusals of different people in that time
)

// Service answers it.
type Service struct {
	Store   *store.Store
	People  *people.People
	Running *running.Service
	Journal *journal.Service
	Log     *slog.Logger

	mu   sync.Mutex // held while a listener is closed, which waits for what is being judged
	open *listener

	telling sync.Mutex
	told    time.Time
	refused crowd.Tally
}

// listener is one socket, with what the plan says now.
type listener struct {
	at            netip.AddrPort
	conn          *net.UDPConn
	problem       string // why it does not listen
	plan          atomic.Pointer[plan.Plan]
	conversations conversations
	done          sync.WaitGroup
}

// Problem is why nobody is answered although the plan says so; empty: everybody is.
func (s *Service) Problem() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open == nil {
		return ""
	}
	return s.open.problem
}

// Keep listens where the plan that runs says, and tells what was refused again and again.
func (s *Service) Keep(now time.Time) {
	s.tellRefusals(now)
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.Running.Plan()
	at := listensAt(p)
	if s.open != nil && (s.open.at != at || s.open.conn == nil) {
		s.open.close()
		s.open = nil
	}
	if !at.IsValid() {
		return
	}
	if s.open != nil {
		s.open.plan.Store(p)
		s.open.conversations.clean(now)
		return
	}
	l := &listener{at: at}
	l.plan.Store(p)
	s.open = l
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		l.problem = err.Error()
		return
	}
	l.conn = conn
	answers := &radius.Server{
		Who: func(from netip.Addr) (radius.Client, bool) { return s.who(l, from) }, Ignored: s.ignored,
		Judge: func(c radius.Client, p *radius.Packet, from netip.Addr) radius.Reply { return s.judge(l, c, p, from) },
	}
	l.done.Go(func() { answers.Serve(conn) })
}

// listensAt is where equipment asks by a plan; not valid: nowhere.
func listensAt(p *plan.Plan) netip.AddrPort {
	if p == nil || !p.EquipmentAt.IsValid() || !slices.ContainsFunc(p.Equipment, func(e plan.Equipment) bool { return !e.Off }) {
		return netip.AddrPort{}
	}
	port := plan.DefaultEquipmentPort
	if p.EquipmentUDP > 0 {
		port = p.EquipmentUDP
	}
	return netip.AddrPortFrom(p.EquipmentAt, uint16(port))
}

// Close ends it.
func (s *Service) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open != nil {
		s.open.close()
		s.open = nil
	}
}

func (l *listener) close() {
	if l.conn != nil {
		_ = l.conn.Close()
	}
	l.done.Wait()
}

// who finds the equipment that asks from an address: that with the longest prefix.
func (s *Service) who(l *listener, from netip.Addr) (radius.Client, bool) {
	var best *plan.Equipment
	bits := -1
	p := l.plan.Load()
	for i := range p.Equipment {
		e := &p.Equipment[i]
		for _, prefix := range e.Addresses {
			if !e.Off && prefix.Contains(from) && prefix.Bits() > bits {
				best, bits = e, prefix.Bits()
			}
		}
	}
	if best == nil {
		return radius.Client{}, false
	}
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	secret, err := s.Store.Shared(ctx, best.Secret)
	return radius.Client{Name: best.Name, Secret: secret}, err == nil && len(secret) > 0
}

func (l *listener) named(name string) *plan.Equipment {
	p := l.plan.Load()
	i := slices.IndexFunc(p.Equipment, func(e plan.Equipment) bool { return e.Name == name && !e.Off })
	if i < 0 {
		return nil // the plan has it no more
	}
	return &p.Equipment[i]
}

// ignored says now and then that somebody sends what counts for nothing.
func (s *Service) ignored(from netip.AddrPort, why string) {
	s.telling.Lock()
	defer s.telling.Unlock()
	if now := time.Now(); now.Sub(s.told) >= toldEvery {
		s.told = now
		s.Log.Warn("a question about people is ignored", "from", from, "why", why)
	}
}

// certificate is what is shown inside EAP.
func (s *Service) certificate(e *plan.Equipment) func(context.Context) ([]tls.Certificate, error) {
	return func(ctx context.Context) ([]tls.Certificate, error) {
		pair, err := s.Store.Certificate(ctx, e.Certificate)
		if err != nil {
			return nil, fmt.Errorf("the certificate %s: %w", e.Certificate, err)
		}
		return []tls.Certificate{{Certificate: pair.Chain(), PrivateKey: pair.Key, Leaf: pair.Leaf}}, nil
	}
}

// allowed tells why somebody who proved who they are may not come in by equipment; none: they may.
func (s *Service) allowed(l *listener, e *plan.Equipment, o login.Outcome, now time.Time) reason.Reason {
	if !slices.ContainsFunc(o.Groups, func(g string) bool { return slices.Contains(e.Groups, g) }) {
		return reason.Of(reason.EquipmentOthers, reason.With{reason.Groups: strings.Join(o.Groups, " + ")})
	}
	p := l.plan.Load()
	own := o.Limits
	if !own.Until.IsZero() && !now.Before(own.Until) {
		return reason.Of(reason.PersonOver, reason.With{reason.When: people.Until(own.Until)})
	}
	if own.Hours == "" {
		return reason.Reason{}
	}
	zone, err := time.LoadLocation(p.TimeZone)
	i := slices.IndexFunc(p.Hours, func(h plan.Hours) bool { return h.Name == own.Hours })
	switch {
	case err != nil || i < 0:
		return reason.Of(reason.PersonHours, reason.With{reason.Hours: own.Hours, reason.When: "which the plan does not have"})
	case !p.Hours[i].Hold(now.In(zone)):
		return reason.Of(reason.PersonHours, reason.With{reason.Hours: own.Hours, reason.When: p.Hours[i].String()})
	}
	return reason.Reason{}
}

// refuse notes a refusal; of the same person and for the same reason the first at once, those after it as a number.
func (s *Service) refuse(e *plan.Equipment, o login.Outcome) {
	s.telling.Lock()
	defer s.telling.Unlock()
	user := o.User
	if !o.Known {
		user = "" // strangers choose names: they are told together
	}
	why := reason.Of(reason.EquipmentRefuses, reason.With{reason.Equipment: e.Name, reason.Error: o.Why.Words()})
	if s.refused.Every == 0 {
		s.refused = crowd.Tally{Every: toldEvery, Most: mostTold}
	}
	if s.refused.Lets(time.Now(), e.Name+" "+user+" "+o.Why.Key(), told{why, user}) {
		s.Journal.Tell(why, user)
	}
}

type told struct {
	why  reason.Reason
	user string
}

func (s *Service) tellRefusals(now time.Time) {
	s.telling.Lock()
	defer s.telling.Unlock()
	counted, rest := s.refused.Due(now)
	for _, c := range counted {
		t := c.Index.(told)
		s.Journal.Tell(t.why.And(reason.With{reason.More: fmt.Sprint(c.More), reason.Until: c.Last.Format(time.TimeOnly)}), t.user)
	}
	if rest.More > 0 {
		s.Journal.Tell(reason.Of(reason.OthersRefused, reason.With{
			reason.Count: fmt.Sprint(rest.More), reason.When: rest.Last.Format(time.TimeOnly),
		}), "")
	}
}
