// Package kinds is where kinds of tunnels are registered: by this list the plan, the gateway and the probe know them.
package kinds

import (
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/tunnel/ikev2"
)

// Kind is one kind of tunnel.
type Kind struct {
	plan.Kind                         // its name, and its settings in the plan
	Find      func(t *check.OfTunnel) // makes the findings on these; nil: there are none
	Dialer    dial.Kind
	Server    tunnel.Kind // that every gateway has; nil: it is started with what the host gives it (ikev2)
}

var all = []Kind{{Kind: plan.KindOf(plan.KindIKEv2), Dialer: ikev2.Dialer{}}} // plan and checks have its own part already

// Register adds a kind, before anything runs.
func Register(k Kind) {
	plan.AllowKind(k.Kind)
	if k.Find != nil {
		check.Kind(k.Name, k.Find)
	}
	all = append(all, k)
}

// Dialer is the device's side of a kind; nil: there is none.
func Dialer(name string) dial.Kind {
	for _, k := range all {
		if k.Name == name {
			return k.Dialer
		}
	}
	return nil
}

// Servers are the servers of kinds that need nothing of the host's.
func Servers() (out []tunnel.Kind) {
	for _, k := range all {
		if k.Server != nil {
			out = append(out, k.Server)
		}
	}
	return out
}
