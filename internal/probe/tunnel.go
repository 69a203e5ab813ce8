// Package probe is the remote user: it logs in to a gateway over the real protocol, with a user-space TCP/IP stack and
// without privileges, and tries what expectations ask for, before connecting and after.
package probe

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/tunnel/kinds"
	"yellowlantern/internal/underlay"
	"yellowlantern/internal/userstack"
)

// Tunnel is a standing session with a TCP/IP stack of its own on it.
type Tunnel struct {
	dial.Session
	Given dial.Given
	Stack *userstack.Stack

	closed sync.Once
}

// Connect logs in by a kind of tunnel. The context bounds the login.
func Connect(ctx context.Context, u underlay.Underlay, kind string, l dial.Login) (*Tunnel, error) {
	k := kinds.Dialer(cmp.Or(kind, plan.KindIKEv2))
	if k == nil {
		return nil, fmt.Errorf("this program cannot dial tunnels of kind %q: use a newer one", kind)
	}
	var stack atomic.Pointer[userstack.Stack]
	s, err := k.Dial(ctx, u, l, func(packets [][]byte) {
		if to := stack.Load(); to != nil {
			for _, b := range packets {
				to.Inject(b)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	t := &Tunnel{Session: s, Given: s.Given()}
	if t.Stack, err = userstack.New(t.Given.Addresses, cmp.Or(l.MTU, plan.DefaultMTU), s.Send); err != nil {
		s.Close()
		return nil, err
	}
	stack.Store(t.Stack)
	return t, nil
}

// Address4 is the leased IPv4 address; not valid if there is none.
func (t *Tunnel) Address4() netip.Addr {
	for _, a := range t.Given.Addresses {
		if a.Is4() {
			return a
		}
	}
	return netip.Addr{}
}

// Close tells the gateway that the session is over, and ends. A second call does nothing.
func (t *Tunnel) Close() {
	t.closed.Do(func() {
		t.Session.Close()
		t.Stack.Close()
	})
}
