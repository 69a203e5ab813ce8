// Package crowd keeps many strangers from costing others anything: it counts them by source, slows down guesses of passwords such that
// neither can a stranger shut somebody out by their name, nor one bad device those who share its address, and says of a flood of refusals
// what happened without writing each one down. It holds no lock: callers do. Whom it is about, and what is refused, is left to them.
package crowd

import (
	"net/netip"

	"yellowlantern/internal/core/fold"
)

// Source is who a stranger is as far as the network tells: an IPv4 address, or a /64 of IPv6, in which anybody may take any address
// (RFC 4291 §2.5.4, RFC 8981).
func Source(a netip.Addr) netip.Prefix {
	a = fold.Addr(a).WithZone("")
	bits := 64
	if a.Is4() {
		bits = 32
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// Count counts strangers, in all and by source. The zero value is ready.
type Count struct {
	all int
	of  map[netip.Prefix]int
}

// All is how many there are, Of how many of a source.
func (c *Count) All() int { return c.all }

// Of is how many there are of an address's source.
func (c *Count) Of(a netip.Addr) int { return c.of[Source(a)] }

// Add counts one more.
func (c *Count) Add(a netip.Addr) {
	if c.of == nil {
		c.of = map[netip.Prefix]int{}
	}
	c.all++
	c.of[Source(a)]++
}

// Remove counts one fewer; there must be one.
func (c *Count) Remove(a netip.Addr) {
	s := Source(a)
	c.all--
	if c.of[s]--; c.of[s] <= 0 {
		delete(c.of, s)
	}
}
