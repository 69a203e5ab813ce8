package app

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/netip"
	"slices"
	"sync/atomic"

	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// ways is how people log in by the tunnels of the plan that runs.
type ways struct {
	running *running.Service
	store   *store.Store
	settled *atomic.Pointer[settled]
}

// settled is a plan with what its passages take of their gateways' defaults.
type settled struct{ of, plan *plan.Plan }

// whole is the plan that runs, with its defaults; nil: none does.
func (w ways) whole() *plan.Plan {
	p := w.running.Plan()
	if p == nil {
		return nil
	}
	if s := w.settled.Load(); s != nil && s.of == p {
		return s.plan
	}
	s := &settled{of: p}
	s.plan, _ = p.Settle()
	w.settled.Store(s)
	return s.plan
}

func (w ways) tunnel(name string) *plan.Tunnel {
	if p := w.running.Plan(); p != nil {
		for i := range p.Tunnels {
			if p.Tunnels[i].Name == name {
				return &p.Tunnels[i]
			}
		}
	}
	return nil
}

// Logins implements people.Ways.
func (w ways) Logins(tunnel string) []string {
	if t := w.tunnel(tunnel); t != nil {
		return t.Logins()
	}
	return nil
}

// Asks implements people.Ways.
func (w ways) Asks(groups []string, from netip.Addr) bool {
	p := w.running.Plan()
	if p == nil {
		return false
	}
	passage := p.PassageOf(groups)
	return passage != nil && passage.Factor.Asks(groups) && !passage.Factor.Excepts(from)
}

// Challenges implements people.Ways: by a tunnel of a passage that may take them, or by equipment. Of who is in no group it is not known.
func (w ways) Challenges(groups []string) bool {
	p := w.whole()
	if p == nil || len(groups) == 0 {
		return true
	}
	among := func(some []string) bool {
		return slices.ContainsFunc(groups, func(g string) bool { return slices.Contains(some, g) })
	}
	for i := range p.Passages {
		if x := &p.Passages[i]; !x.Off && among(x.Groups) && p.Challenges(x) {
			return true
		}
	}
	return slices.ContainsFunc(p.Equipment, func(e plan.Equipment) bool {
		return !e.Off && among(e.Groups) && slices.ContainsFunc(e.Ways(), plan.Challenge)
	})
}

// Certificates implements people.Ways.
func (w ways) Certificates(ctx context.Context, tunnel string) (out []tls.Certificate, err error) {
	t := w.tunnel(tunnel)
	if t == nil {
		return nil, fmt.Errorf("no tunnel %q runs", tunnel)
	}
	for _, name := range t.Certificates() {
		pair, err := w.store.Certificate(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("the certificate %s: %w", name, err)
		}
		out = append(out, tls.Certificate{Certificate: pair.Chain(), PrivateKey: pair.Key, Leaf: pair.Leaf})
	}
	return out, nil
}
