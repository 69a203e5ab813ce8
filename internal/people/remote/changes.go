package remote

import (
	"context"
	"net/netip"
	"time"

	"layeh.com/radius/rfc2865"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/radius"
)

// Changes is where the service takes what servers ask for while sessions last; not valid: nowhere.
func (r *Server) Changes() netip.AddrPort { return r.own.Changes() }

// Called is what the service calls itself there.
func (r *Server) Called() string { return r.own.Name() }

// Shared is the secret that is shared with them.
func (r *Server) Shared(ctx context.Context) ([]byte, error) {
	secret, err := r.secrets.Shared(ctx)
	return []byte(secret), err
}

// IsServer tells whether an address is one that the plan names as a server's.
func (r *Server) IsServer(a netip.Addr) bool {
	for _, word := range r.s.Servers {
		at, err := plan.ReadServer(plan.KindRADIUS, word)
		if err != nil {
			continue
		}
		if own, err := netip.ParseAddr(at.Host); err == nil && own == a {
			return true
		}
	}
	return false
}

// Change is what a request wants of somebody.
func (r *Server) Change(p *radius.Packet) source.Change {
	var c source.Change
	who := groupsOf(p, r.own)
	if len(who) > 0 {
		c.Groups = &who
	}
	l := limits(p)
	if _, err := rfc2865.SessionTimeout_Lookup(p); err == nil {
		c.Longest = new(time.Duration)
		*c.Longest = l.Longest
	}
	if _, err := rfc2865.IdleTimeout_Lookup(p); err == nil {
		c.Idle = new(time.Duration)
		*c.Idle = l.Idle
	}
	return c
}
