// Package pool leases addresses to people. A person who comes back gets the same address while it is free, so that
// what they had open can go on.
package pool

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/netset"
)

// ErrExhausted says that every address of a family is leased.
var ErrExhausted = errors.New("pool: no address is free")

// Pool is a supply of addresses. It is not safe for concurrent use.
type Pool struct {
	supply netset.Addrs
	kept   map[netip.Addr]string    // reserved: holder by address
	leased map[netip.Addr]string    // holder by address
	last   map[string]netip.Addr    // by holder and family
	next   map[bool]netip.Addr      // where to look first, by whether IPv4
	others map[netip.Addr]time.Time // that somebody else was seen with, until when they are left alone
	each   int                      // length of the IPv6 prefixes that are leased whole; 0: addresses are
	before map[netip.Addr]int       // leased while each was another, with the length of what they stand for
}

// New begins with everything free. kept is the addresses that are reserved, each with the one holder who gets it. each is the length of the
// IPv6 prefixes that are leased whole, 48 to 64; 0: addresses are leased.
func New(supply netset.Addrs, kept map[netip.Addr]string, each int) *Pool {
	p := &Pool{
		leased: map[netip.Addr]string{}, last: map[string]netip.Addr{}, next: map[bool]netip.Addr{},
		others: map[netip.Addr]time.Time{}, before: map[netip.Addr]int{},
	}
	p.Resize(supply, kept, each)
	return p
}

// Resize changes what is leased from, what is kept for whom, and how long leased prefixes are; leases that do not fit stay until they are
// released.
func (p *Pool) Resize(supply netset.Addrs, kept map[netip.Addr]string, each int) {
	if each != p.each {
		for a := range p.leased {
			if _, older := p.before[a]; !a.Is4() && !older {
				p.before[a] = p.length()
			}
		}
		delete(p.next, false)
	}
	p.supply, p.each, p.kept = supply, each, map[netip.Addr]string{}
	for a, who := range kept {
		p.kept[p.standsFor(a)] = who
	}
}

// standsFor is the address by which what an address belongs to is leased: itself, or the first one of its prefix that a device may have.
func (p *Pool) standsFor(a netip.Addr) netip.Addr {
	if a.Is4() || p.each == 0 {
		return a
	}
	prefix, _ := a.Prefix(p.each)
	return prefix.Addr().Next()
}

// holds tells whether what an address stands for is in the supply, whole.
func (p *Pool) holds(supply netset.Addrs, a netip.Addr) bool {
	if a.Is4() || p.each == 0 {
		return supply.Contains(a)
	}
	prefix, _ := a.Prefix(p.each)
	return supply.Covers(netset.OfPrefixes(prefix))
}

// Lease gives addresses of each family that the pool has: as many as are wanted of IPv4 and of IPv6, at least one. Of a pool that leases
// prefixes the IPv6 address stands for its prefix, and is one. If there is none left of a family, nothing is leased; further ones are given
// as far as there are some. own are addresses that the holder must have, the first of each family: an OwnError where one cannot be had.
func (p *Pool) Lease(holder string, want4, want6 int, own ...netip.Addr) ([]netip.Addr, error) {
	var out []netip.Addr
	for _, v4 := range []bool{true, false} {
		want := want6
		if v4 {
			want = want4
		} else if p.each > 0 {
			want = 1
		}
		family := netset.All6
		if v4 {
			family = netset.All4
		}
		supply := p.supply.Intersect(family)
		if len(supply) == 0 {
			continue
		}
		for n := range max(want, 1) {
			a, ok, err := p.first(n, supply, holder, v4, own)
			if err != nil {
				p.Release(out...)
				return nil, err
			}
			if !ok && n == 0 {
				p.Release(out...)
				return nil, ErrExhausted
			}
			if !ok {
				break
			}
			p.leased[a] = holder
			p.last[key(holder, v4)] = a
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		return nil, ErrExhausted
	}
	return out, nil
}

// OwnError is that an address that somebody must have cannot be had: it is somebody else's, or none of the pool's.
type OwnError struct {
	Address netip.Addr
	Taken   bool
}

// Error implements error.
func (e *OwnError) Error() string {
	if e.Taken {
		return fmt.Sprintf("pool: %s is somebody else's", e.Address)
	}
	return fmt.Sprintf("pool: %s is not leased", e.Address)
}

// first is the holder's own address of a family, where they have one and it is the first that is leased, otherwise a free one.
func (p *Pool) first(n int, supply netset.Addrs, holder string, v4 bool, own []netip.Addr) (netip.Addr, bool, error) {
	i := slices.IndexFunc(own, func(a netip.Addr) bool { return a.Is4() == v4 })
	if i < 0 || n > 0 {
		a, ok := p.pick(supply, holder, v4)
		return a, ok, nil
	}
	a := p.standsFor(own[i])
	if !p.holds(supply, a) {
		return a, false, &OwnError{own[i], false}
	}
	if !p.free(a, holder) {
		return a, false, &OwnError{own[i], true}
	}
	return a, true, nil
}

func key(holder string, v4 bool) string {
	if v4 {
		return "4 " + holder
	}
	return "6 " + holder
}

func (p *Pool) pick(supply netset.Addrs, holder string, v4 bool) (netip.Addr, bool) {
	if a, ok := p.reservedFor(supply, holder, v4); ok {
		return a, true
	}
	if a, ok := p.last[key(holder, v4)]; ok {
		if a = p.standsFor(a); p.free(a, holder) && p.holds(supply, a) {
			return a, true
		}
	}
	if !v4 && p.each > 0 {
		return p.pickPrefix(supply, holder)
	}
	start := p.next[v4]
	if !start.IsValid() || !supply.Contains(start) {
		start = supply[0].From
	}
	ahead := supply.Intersect(netset.Addrs{{From: start, To: supply[len(supply)-1].To}})
	behind := supply.Subtract(ahead)
	tries := len(p.leased) + len(p.kept) + len(p.others) + 1 // one of so many is free, if any is
	for _, span := range append(append(netset.Addrs{}, ahead...), behind...) {
		for a := span.From; tries > 0; a = a.Next() {
			if p.free(a, holder) {
				p.next[v4] = a.Next()
				return a, true
			}
			tries--
			if a == span.To {
				break
			}
		}
	}
	return netip.Addr{}, false
}

// reservedFor is the first address of a family that is kept for the holder and free; a second session of theirs gets another one.
func (p *Pool) reservedFor(supply netset.Addrs, holder string, v4 bool) (best netip.Addr, ok bool) {
	for a, who := range p.kept {
		if who == holder && a.Is4() == v4 && p.holds(supply, a) && p.free(a, holder) && (!ok || a.Less(best)) {
			best, ok = a, true
		}
	}
	return best, ok
}

func (p *Pool) free(a netip.Addr, holder string) bool {
	_, taken := p.leased[a]
	who, kept := p.kept[a]
	_, other := p.others[a]
	return !taken && !other && (!kept || who == holder) && !p.overlaps(a)
}

// Avoid leaves an address alone for a while that somebody else has, also where it is kept for a holder: they get another one meanwhile.
func (p *Pool) Avoid(a netip.Addr, until time.Time) { p.others[a] = until }

// Forgive lets addresses be leased again whose time is over.
func (p *Pool) Forgive(now time.Time) {
	for a, until := range p.others {
		if now.After(until) {
			delete(p.others, a)
		}
	}
}

// Release takes addresses back. What a holder gave back last is what they get next, while it is free.
func (p *Pool) Release(addrs ...netip.Addr) {
	for _, a := range addrs {
		if holder, ok := p.leased[a]; ok {
			p.last[key(holder, a.Is4())] = a
			delete(p.leased, a)
			delete(p.before, a)
		}
	}
}

// Leased is how many addresses are out.
func (p *Pool) Leased() int { return len(p.leased) }

// Lease is an address with whom it is leased to, or kept for.
type Lease struct {
	Address netip.Addr `json:"address"`
	Holder  string     `json:"holder"`
	Kept    bool       `json:"kept" doc:"It is reserved for the holder."`
	Out     bool       `json:"out" doc:"It is leased now."`
}

// Leases lists what is leased or kept, by address.
func (p *Pool) Leases() []Lease {
	out := []Lease{}
	for a, who := range p.leased {
		_, kept := p.kept[a]
		out = append(out, Lease{a, who, kept, true})
	}
	for a, who := range p.kept {
		if _, leased := p.leased[a]; !leased {
			out = append(out, Lease{a, who, true, false})
		}
	}
	slices.SortFunc(out, func(a, b Lease) int { return a.Address.Compare(b.Address) })
	return out
}
