// Package authorities says whom certificates name that other authorities issued to people, and whether they count still; and ends the
// sessions of those that do not.
package authorities

import (
	"context"
	"crypto/x509"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/revocation"
	"yellowlantern/internal/store"
)

// Gateway is where sessions are.
type Gateway interface {
	Sessions() []gateway.Session
	End(id uint64, why reason.Reason) error
}

// Service judges.
type Service struct {
	Store   *store.Store
	People  *people.People
	Journal *journal.Service
	Running *running.Service
	Plans   *plans.Service
	Gateway Gateway
	Known   *revocation.Keeper

	mu   sync.Mutex
	read map[string]*foreign.Authority // by the text of its certificates, name and settings
}

// of reads an authority of a plan, each once.
func (s *Service) of(a *plan.Authority) (*foreign.Authority, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if have := s.read[a.Name]; have != nil && equal(have.Authority, *a) {
		return have, nil
	}
	read, err := foreign.Read(*a)
	if err != nil {
		return nil, err
	}
	if s.read == nil {
		s.read = map[string]*foreign.Authority{}
	}
	s.read[a.Name] = read
	return read, nil
}

func equal(a, b plan.Authority) bool {
	lists := slices.Equal(a.Lists, b.Lists)
	a.Lists, b.Lists = nil, nil
	return lists && a.Name == b.Name && a.Certificate == b.Certificate && a.PersonFrom == b.PersonFrom && a.Domain == b.Domain &&
		a.Revocation == b.Revocation && a.OCSP == b.OCSP && a.Unknown == b.Unknown
}

// takenBy are the authorities whose certificates a tunnel takes.
func (s *Service) takenBy(p *plan.Plan, tunnel string) (out []*foreign.Authority) {
	for _, t := range p.Tunnels {
		if t.Name != tunnel {
			continue
		}
		for i := range p.Authorities {
			if slices.Contains(t.Authorities, p.Authorities[i].Name) {
				if a, err := s.of(&p.Authorities[i]); err == nil { // a commit has looked at it
					out = append(out, a)
				}
			}
		}
	}
	return out
}

// Judge implements people.Foreign.
func (s *Service) Judge(ctx context.Context, tunnel string, shown [][]byte) people.Judged {
	p := s.Running.Plan()
	if p == nil {
		return people.Judged{Why: reason.Of(reason.LoginsLater, reason.With{reason.Error: "the service has just started"})}
	}
	chain, err := parse(shown)
	if err != nil {
		return people.Judged{Why: reason.Of(reason.KeyUnreadable, nil)}
	}
	var j people.Judged
	for _, a := range s.takenBy(p, tunnel) {
		found := s.judge(ctx, a, chain)
		if found.Authority != "" {
			return found
		}
		j = found
	}
	return j
}

func parse(shown [][]byte) (out []*x509.Certificate, err error) {
	for _, der := range shown {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// judge holds a certificate against one authority; without an authority in the answer it is not of this one.
func (s *Service) judge(ctx context.Context, a *foreign.Authority, shown []*x509.Certificate) people.Judged {
	j := people.Judged{Leaf: shown[0]}
	chain, why := a.Chain(shown, time.Now())
	if j.Why = why; why.Code == reason.KeyStranger {
		return j
	}
	j.Authority = a.Name
	if why.None() {
		j.Person, j.Why = a.Person(shown[0])
	}
	if !j.Why.None() {
		return j
	}
	switch v := s.Known.Judge(ctx, a, chain); {
	case v.Revoked:
		j.Why = reason.Of(reason.KeyRevokedThere, reason.With{
			reason.Authority: a.Name, reason.When: v.Since.UTC().Format(time.DateTime), reason.Source: v.Source,
		})
	case v.Unknown != "" && !a.Admits():
		j.Why = reason.Of(reason.RevocationUnknown, reason.With{reason.Authority: a.Name, reason.Error: v.Unknown})
	}
	return j
}

// Gone implements people.Foreign.
func (s *Service) Gone(ctx context.Context, k store.PersonKey) bool {
	p := s.Running.Plan()
	if p == nil { // a service that has just started: they log in anew
		return true
	}
	taken := slices.ContainsFunc(p.Tunnels, func(t plan.Tunnel) bool { return !t.Off && slices.Contains(t.Authorities, k.Authority) })
	return !taken || !s.counts(ctx, p, k).None()
}

// counts judges the certificate that is kept of a key once more; none: it counts.
func (s *Service) counts(ctx context.Context, p *plan.Plan, k store.PersonKey) reason.Reason {
	gone := reason.Of(reason.KeyStranger, nil)
	i := slices.IndexFunc(p.Authorities, func(a plan.Authority) bool { return a.Name == k.Authority })
	chain, err := x509.ParseCertificates(append(slices.Clone(k.Certificate), k.Above...))
	if i < 0 || err != nil {
		return gone
	}
	a, err := s.of(&p.Authorities[i])
	if err != nil {
		return gone
	}
	return s.judge(ctx, a, chain).Why
}

// Keep fetches lists before anybody needs them, tells where that begins to fail, and ends the sessions of those whose certificates count no
// more: they were revoked, are over, or the plan takes their authority no longer.
func (s *Service) Keep(ctx context.Context) {
	p := s.Running.Plan()
	if p == nil {
		return
	}
	for i := range p.Authorities {
		a, err := s.of(&p.Authorities[i])
		if err == nil && used(p, a.Name) && a.FoundOut() != plan.RevocationNone && a.FoundOut() != plan.RevocationOCSP {
			s.Known.Refresh(ctx, a, false)
		}
	}
	all, err := s.Store.ForeignKeys(ctx)
	if err != nil || len(all) == 0 {
		return
	}
	keys := map[string]store.PersonKey{}
	for _, k := range all {
		keys[k.Fingerprint] = k
	}
	for _, live := range s.Gateway.Sessions() {
		k, foreign := keys[live.Key]
		if !foreign {
			continue
		}
		takes := slices.ContainsFunc(p.Tunnels, func(t plan.Tunnel) bool {
			return t.Name == live.Tunnel && slices.Contains(t.Authorities, k.Authority)
		})
		if takes { // what cannot be found out ends nobody's session
			if why := s.counts(ctx, p, k); why.None() || why.Code == reason.RevocationUnknown {
				continue
			}
		}
		if id, err := session.ParseID(live.ID); err == nil {
			gone := reason.Of(reason.CertificateGone, reason.With{reason.Authority: k.Authority})
			_ = s.Gateway.End(id, gone) // it may have ended by itself
		}
	}
}

// used tells whether some tunnel takes certificates of an authority.
func used(p *plan.Plan, name string) bool {
	return slices.ContainsFunc(p.Tunnels, func(t plan.Tunnel) bool { return !t.Off && slices.Contains(t.Authorities, name) })
}

// Told writes down what could be had and cannot any more, and the other way round.
func (s *Service) Told(authority, from, failed string) {
	about := reason.With{reason.Authority: authority, reason.Source: from}
	if failed == "" {
		s.Journal.Tell(reason.Of(reason.ListHadAgain, about), "")
		return
	}
	s.Journal.Tell(reason.Of(reason.ListNotHad, about).And(reason.With{reason.Error: failed}), "")
}
