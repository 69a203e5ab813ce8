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

	// What follows is for a port that routes and translates by itself.

	Pools        []Pool
	Attached     []Attached
	Outside      []netip.Addr
	Routes       []Route
	Ways         []Way
	Translations []Translation
	// MayChange lets the port change settings of the host that are not its own, such as forwarding; Mends lets it make good what
	// somebody's hand changed.
	MayChange, Mends bool
}

// Internet is the way that is not an attached network, in Way and Translation; Tunnels is the way to people.
const (
	Internet = "internet"
	Tunnels  = ""
)

// Pool is where people's addresses are.
type Pool struct {
	Name     string
	Prefixes []netip.Prefix
	MTU      int // of packets towards them, in octets
}

// Attached is a network that the gateway is on.
type Attached struct {
	Network   string
	Prefixes  []netip.Prefix
	Addresses []netip.Addr // the gateway's there
}

// Route leads to a prefix by a next hop on an attached network.
type Route struct {
	To      netip.Prefix
	Via     netip.Addr
	Network string
	Spare   bool // another way back: packets may come by it, and are not sent there
}

// Way is a network that the gateway is attached to, or the internet: what it leads to, and from where packets that come by it are believed
// to be.
type Way struct {
	Network      string
	Leads, Comes netset.Addrs
}

// Translation is what becomes of the sources of packets from a way to another one. Of all that are about a packet the first decides.
type Translation struct {
	Entry    string // of the plan
	In, Out  string
	From, To netset.Addrs
	Exempt   bool
	As       netip.Addr // where it is not exempt; not valid: such packets are lost
}

// Observed is the state of the inside.
type Observed struct {
	Port     string    `json:"port" doc:"What carries packets to the inside: site-lab, or linux for this machine's own networks; empty: nothing does, and nobody reaches anything."`
	Problems []Problem `json:"problems" nullable:"false" doc:"What is not as the plan wants it."`
	Machine  *Machine  `json:"machine,omitempty" doc:"What the machine has counted; only where one carries it."`
}

// Machine is what a machine has counted.
type Machine struct {
	Links       []Link            `json:"links" nullable:"false" doc:"Links that the plan uses, and the tunnels' own."`
	Connections int               `json:"connections" doc:"Connections that the kernel follows, of everybody."`
	Most        int               `json:"most-connections" doc:"How many it can follow."`
	Lost        map[string]uint64 `json:"lost" doc:"Packets that the gateway's table of rules lost, by chain."`
}

// Link is one of its links, with counters since it was made.
type Link struct {
	Name     string   `json:"name"`
	Ways     []string `json:"ways" nullable:"false" doc:"Networks that it leads to, or internet."`
	Up       bool     `json:"up"`
	Received Carried  `json:"received"`
	Sent     Carried  `json:"sent"`
}

// Carried is what a link carried in one direction.
type Carried struct {
	Packets uint64 `json:"packets"`
	Octets  uint64 `json:"octets"`
	Lost    uint64 `json:"lost" doc:"Packets dropped in its queue, or damaged."`
}

// Looked is where a machine's kernel would send a packet, beside what the plan says.
type Looked struct {
	Way     string `json:"way" doc:"Where the kernel sends it, as ip-route(8) writes it."`
	Planned string `json:"planned" doc:"Where the plan says."`
	Same    bool   `json:"same"`
}

// Preview is what a plan would make of a machine, held against what is there.
type Preview struct {
	Port     string    `json:"port"`
	Lines    []Line    `json:"lines" nullable:"false" doc:"Routes, settings, and the table of rules in the language of nft."`
	Problems []Problem `json:"problems" nullable:"false" doc:"What the machine would not have, or keeps from it."`
}

// Line is a line of it.
type Line struct {
	Is   string `json:"is" enum:"same,new,gone" doc:"Whether it is there already, would be made, or would be taken away."`
	Text string `json:"text"`
}

// What a line is.
const (
	Same = "same"
	New  = "new"
	Gone = "gone"
)

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
