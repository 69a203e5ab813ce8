// Package actor says in whose name something is asked of the service, from where, and what let it in. It is carried by the context of what
// is asked; whoever has none asks in nobody's name.
package actor

import (
	"context"
	"net/netip"
)

// Actor is who asks.
type Actor struct {
	Name       string     // an administrator's; empty: nobody who signed in
	From       netip.Addr // where the request comes from
	Private    bool       // nobody between it and the service can read it (TLS)
	Credential string     // the hash of what let it in
}

type key struct{}

// With gives a context in whose name it is asked.
func With(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, key{}, a) }

// Of is who asks.
func Of(ctx context.Context) Actor {
	a, _ := ctx.Value(key{}).(Actor)
	return a
}

// Name is the administrator who asks.
func Name(ctx context.Context) string { return Of(ctx).Name }
