// Package equipment answers what else on the site's network asks about people, by RADIUS (RFC 2865): switches, access points, other
// servers.
// They are the same people, with the same groups, wherever they are kept, and what is decided about them stands in the same journal.
package equipment

import (
	"context"
	"crypto/tls"
	"errors"
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
	"yellowlantern/internal/guard"
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
	// kept are secrets as they were with a plan and a version of trust.
	kept   *map[string][]byte
	keptOf *plan.Plan
	keptAt uint64

	telling sync.Mutex
	refused crowd.Tally
}

// listener is one socket, with what the plan says now.
type listener struct {
	at            netip.AddrPort
	conn          *net.UDPConn
	problem       string // why it does not listen
	plan          atomic.Pointer[plan.Plan]
	secrets       atomic.Pointer[map[string][]byte] // of equipment, by their names: strangers have nothing looked up
	conversations conversations
	crowded       time.Time // when it was told last
	done          guard.Group
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
		s.open.secrets.Store(s.secrets(p))
		s.tellCrowded(s.open, now)
		return
	}
	l := &listener{at: at}
	l.plan.Store(p)
	l.secrets.Store(s.secrets(p))
	s.open = l
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		l.problem = err.Error()
		return
	}
	l.conn = conn
	answers := &radius.Server{
		Who:     func(from netip.Addr) (radius.Client, bool) { return s.who(l, from) },
		Ignored: func(from netip.AddrPort, c radius.Client, why error) { s.ignored(l, from, c, why) },
		Judge:   func(c radius.Client, p *radius.Packet, from netip.Addr) radius.Reply { return s.judge(l, c, p, from) },
	}
	l.done.Keep("equipment.listener", func() { answers.Serve(conn) })
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
	l.conversations.close()
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
	secret := (*l.secrets.Load())[best.Secret]
	return radius.Client{Name: best.Name, Secret: secret}, len(secret) > 0
}

// secrets are those that equipment shares with the service, read when anything of secrets changed.
func (s *Service) secrets(p *plan.Plan) *map[string][]byte {
	version := s.Store.TrustVersion()
	if s.kept != nil && s.keptOf == p && s.keptAt == version {
		return s.kept
	}
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	out, failed := map[string][]byte{}, false
	for _, e := range p.Equipment {
		secret, err := s.Store.Shared(ctx, e.Secret)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			failed = true
			continue
		}
		out[e.Secret] = secret
	}
	if !failed { // else they are read again
		s.kept, s.keptOf, s.keptAt = &out, p, version
	}
	return &out
}

// tellCrowded says that logins by some equipment gave way for others, once a minute.
func (s *Service) tellCrowded(l *listener, now time.Time) {
	if now.Sub(l.crowded) < toldEvery {
		return
	}
	l.crowded = now
	for name, n := range l.conversations.crowded() {
		s.Journal.Tell(reason.Of(reason.EquipmentCrowded, reason.With{reason.Equipment: name, reason.Count: fmt.Sprint(n)}), "")
	}
}

func (l *listener) named(name string) *plan.Equipment {
	p := l.plan.Load()
	i := slices.IndexFunc(p.Equipment, func(e plan.Equipment) bool { return e.Name == name && !e.Off })
	if i < 0 {
		return nil // the plan has it no more
	}
	return &p.Equipment[i]
}

// ignored writes that something counts for nothing, and why: the first of a kind at once, those after it as a number. Who asks from where
// the plan has no equipment is a stranger, of whom there may be any number: they are told together.
func (s *Service) ignored(l *listener, from netip.AddrPort, c radius.Client, why error) {
	with := reason.With{reason.Equipment: c.Name, reason.Source: from.Addr().String(), reason.Error: why.Error()}
	said := reason.Of(reason.EquipmentIgnored, with)
	switch {
	case errors.Is(why, radius.ErrStranger):
		said = reason.Of(reason.EquipmentStranger, with)
	case errors.Is(why, radius.ErrForged):
		with[reason.Name] = ""
		if e := l.named(c.Name); e != nil {
			with[reason.Name] = e.Secret
		}
		said = reason.Of(reason.EquipmentSecret, with)
	case errors.Is(why, radius.ErrUnsigned):
		said = reason.Of(reason.EquipmentUnsigned, with)
	}
	s.note(c.Name+" "+string(said.Code), said, "")
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
	user := o.User
	if !o.Known {
		user = "" // strangers choose names: they are told together
	}
	why := reason.Of(reason.EquipmentRefuses, reason.With{reason.Equipment: e.Name, reason.Error: o.Why.Words()})
	s.note(e.Name+" "+user+" "+o.Why.Key(), why, user)
}

// note writes a line, or counts it with others of its kind.
func (s *Service) note(kind string, why reason.Reason, user string) {
	s.telling.Lock()
	defer s.telling.Unlock()
	if s.refused.Every == 0 {
		s.refused = crowd.Tally{Every: toldEvery, Most: mostTold}
	}
	if s.refused.Lets(time.Now(), kind, told{why, user}) {
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
