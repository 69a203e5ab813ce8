// Package pool leases addresses to people. A person who comes back gets the same address while it is free, so that
// what they had open can go on.
package pool

import (
	"errors"
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
}

// New begins with everything free. kept is the addresses that are reserved, each with the one holder who gets it.
func New(supply netset.Addrs, kept map[netip.Addr]string) *Pool {
	return &Pool{
		supply: supply, kept: kept, leased: map[netip.Addr]string{}, last: map[string]netip.Addr{}, next: map[bool]netip.Addr{},
		others: map[netip.Addr]time.Time{},
	}
}

// Resize changes what is leased from, and what is kept for whom; leases outside it stay until they are released.
func (p *Pool) Resize(supply netset.Addrs, kept map[netip.Addr]string) {
	p.supply, p.kept = supply, kept
}

// Lease gives one address of each family that the pool has. If a family is used up, nothing is leased.
func (p *Pool) Lease(holder string) ([]netip.Addr, error) {
	var out []netip.Addr
	for _, v4 := range []bool{true, false} {
		family := netset.All6
		if v4 {
			family = netset.All4
		}
		supply := p.supply.Intersect(family)
		if len(supply) == 0 {
			continue
		}
		a, ok := p.pick(supply, holder, v4)
		if !ok {
			p.Release(out...)
			return nil, ErrExhausted
		}
		p.leased[a] = holder
		p.last[key(holder, v4)] = a
		out = append(out, a)
	}
	if len(out) == 0 {
		return nil, ErrExhausted
	}
	return out, nil
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
	if a, ok := p.last[key(holder, v4)]; ok && p.free(a, holder) && supply.Contains(a) {
		return a, true
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
		if who == holder && a.Is4() == v4 && supply.Contains(a) && p.free(a, holder) && (!ok || a.Less(best)) {
			best, ok = a, true
		}
	}
	return best, ok
}

func (p *Pool) free(a netip.Addr, holder string) bool {
	_, taken := p.leased[a]
	who, kept := p.kept[a]
	_, other := p.others[a]
	return !taken && !other && (!kept || who == holder)
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
