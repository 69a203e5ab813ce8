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
	Origin     string     // of the page that asks, as a browser would write it, such as https://gate.tern.example
	Credential string     // the hash of what let it in
	By         string     // what let it in: the console, or a token by its name
	Role       string     // the administrator's
	Narrowed   string     // a role beside it: both must let them; empty: it does not
	MustChange bool       // their password was made for them: nothing is done by it but choosing another
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

// Rights are what they may do, in words.
func (a Actor) Rights() string {
	if a.Narrowed != "" && a.Narrowed != a.Role {
		return a.Role + ", by a token for " + a.Narrowed
	}
	return a.Role
}
