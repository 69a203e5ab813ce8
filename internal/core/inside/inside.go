// Package inside says what a gateway wants of the side away from its tunnels, and what that side tells back. The site lab is one such
// side; a
// host's own networks are another.
package inside

import (
	"net/netip"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// Desired is what a gateway wants. It is applied as a whole; what is there already stays.
type Desired struct {
	Gateway string
	People  netset.Addrs // addresses that people may have: what goes to them belongs to the gateway
	// Answers are addresses of people that lie on a network which the gateway is attached to: it answers for them there, so that
	// their neighbours find them without a route.
	Answers []netip.Addr
}

// Observed is the state of the inside.
type Observed struct {
	Port     string    `json:"port" doc:"What carries packets to the inside: site-lab; empty: nothing does, and nobody reaches anything."`
	Problems []Problem `json:"problems" nullable:"false" doc:"What is not as the plan wants it."`
}

// Problem is something that is not as it is wanted.
type Problem struct {
	reason.Reason
	Words string `json:"words"`
}

// Told is a problem with its words.
func Told(why reason.Reason) Problem { return Problem{why, why.Words()} }

// None is the state where there is no port at all.
func None() Observed { return Observed{Problems: []Problem{Told(reason.Of(reason.NoInsidePort, nil))}} }

// OK tells whether everything is as it is wanted.
func (o Observed) OK() bool { return len(o.Problems) == 0 }
