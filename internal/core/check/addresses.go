package check

import (
	"fmt"
	"net/netip"
	"sync"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/pool"
)

// part is one prefix or range of a pool, and where it stands.
type part struct {
	path string
	text string
	set  netset.Addrs
}

func partsOf(p *plan.Pool) []part {
	var out []part
	for k, prefix := range p.Prefixes {
		out = append(out, part{at("pools/"+p.Name+"/prefixes", k), prefix.String(), netset.OfPrefixes(prefix)})
	}
	for k, r := range p.Ranges {
		out = append(out, part{at("pools/"+p.Name+"/ranges", k), r.String(), netset.OfSpans(r.Span)})
	}
	return out
}

// addresses finds pools that collide, are too small, or are badly chosen.
func (c *checker) addresses() {
	c.overlaps()
	for i := range c.p.Pools {
		p := &c.p.Pools[i]
		for k, prefix := range p.Prefixes {
			if path := at("pools/"+p.Name+"/prefixes", k); prefix != prefix.Masked() {
				c.add(Stop, "host-bits", path, "write "+prefix.Masked().String(), "%s has host bits set: which range is meant is unclear",
					prefix)
				c.mend("set", path, quote(prefix.Masked()))
			}
		}
		parts := partsOf(p)
		spans := make([]netset.Span, len(parts))
		for k, own := range parts {
			spans[k] = own.set[0]
		}
		again := overlapping(spans)
		for k, own := range parts {
			if again[k] {
				c.add(Stop, "pool-overlaps-itself", own.path, "take it out, or narrow it",
					"%s overlaps what pool %s has already: how many addresses there are is unclear", own.text, p.Name)
			}
			c.collisions(i, p, own)
		}
		for _, g := range c.p.Gateways {
			if p.Space().Overlaps(netset.OfAddrs(g.Outside.Addresses...)) {
				c.add(Stop, "pool-overlaps-outside", "pools/"+p.Name, "use "+c.freePrefix(p.Space())+", which is free",
					"the pool holds the gateway's own outside address")
			}
		}
		c.carved(p)
		c.reserved(p)
		c.size(p, "pools/"+p.Name)
		c.prefixes(p)
	}
}

// overlaps finds inside networks that share addresses: which of them an address belongs to is decided by the longer prefix, and, of equal
// ones, by the plan's order (docs/semantics.md, "Networks").
func (c *checker) overlaps() {
	first, lengths := map[netip.Prefix]string{}, map[int]bool{}
	for _, n := range c.p.Networks {
		for _, p := range n.Prefixes {
			if _, taken := first[p.Masked()]; !taken {
				first[p.Masked()] = n.Name
			}
			lengths[p.Bits()] = true
		}
	}
	for _, n := range c.p.Networks {
		for k, p := range n.Prefixes {
			path := at("networks/"+n.Name+"/prefixes", k)
			if other := first[p.Masked()]; other != n.Name {
				c.add(Stop, "networks-overlap", path, "give each network prefixes of its own",
					"%s is network %s already: nothing ever goes to %s of network %s", p, other, p, n.Name)
				continue
			}
			for bits := p.Bits() - 1; bits >= 0; bits-- {
				if !lengths[bits] {
					continue
				}
				wider, _ := p.Addr().Prefix(bits)
				if other, ok := first[wider]; ok && other != n.Name {
					c.add(Warn, "networks-overlap", path, "take it out of one of the two, or accept it where routers keep them apart",
						"%s lies within %s of network %s: its addresses belong to %s alone, and hosts on %s look for them on their own link",
						p, wider, other, n.Name, other)
					break
				}
			}
		}
	}
}

func (c *checker) collisions(i int, p *plan.Pool, own part) {
	free := sync.OnceValue(func() string { return c.freePrefix(own.set) })
	for _, n := range c.p.Networks {
		if p.CarvedFrom == n.Name || !own.set.Overlaps(netset.OfPrefixes(n.Prefixes...)) {
			continue
		}
		if n.Site != "" {
			c.add(Stop, "pool-overlaps-other-site", own.path, "use "+free()+", which is free",
				"%s overlaps network %s of %s: people and that site cannot reach each other", own.text, n.Name, n.Site)
		} else {
			c.add(Stop, "pool-overlaps-network", own.path, "use "+free()+", which is free, or say carved-from: "+n.Name,
				"%s overlaps network %s: hosts there look for remote people on their own link, and answers never reach the gateway", own.text, n.Name)
		}
		c.renumber(own.path, free())
	}
	for j := range i {
		if own.set.Overlaps(c.p.Pools[j].Space()) {
			c.add(Stop, "pool-overlaps-pool", own.path, "use "+free()+", which is free",
				"%s overlaps pool %s: two people would get the same address", own.text, c.p.Pools[j].Name)
			c.renumber(own.path, free())
		}
	}
	if own.set.Overlaps(typicalHomes) {
		c.add(Warn, "pool-typical-home", own.path, "use "+free()+", which is uncommon and free", "%s is what many home routers use: people there cannot tell the tunnel from their home", own.text)
		c.renumber(own.path, free())
	}
	if !p.Owned && !plan.Private.Covers(own.set) {
		c.add(Warn, "pool-public", own.path, "use private space such as "+free()+", or say owned: true", "%s is public space that may belong to somebody else: its owner becomes unreachable", own.text)
		c.renumber(own.path, free())
	}
}

// renumber mends a pool's prefix or range by the first free one, if there is one.
func (c *checker) renumber(path, free string) {
	if p, err := netip.ParsePrefix(free); err == nil {
		c.mend("set", path, quote(p))
	}
}

// carved finds what goes wrong with a pool that is a part of an inside network.
func (c *checker) carved(p *plan.Pool) {
	n := c.n.Networks[p.CarvedFrom]
	if n == nil {
		return
	}
	base := "pools/" + p.Name
	inside := netset.OfPrefixes(n.Prefixes...)
	leased := p.Addresses()
	if !inside.Covers(leased) {
		c.add(Stop, "carved-elsewhere", base+"/carved-from", "carve it from what "+n.Name+" has: "+inside.String(), "pool %s is not a part of network %s: %s lies outside it", p.Name, n.Name, leased.Subtract(inside))
	}
	attached := false
	for _, g := range c.p.Gateways {
		for _, a := range g.Inside {
			attached = attached || a.Network == n.Name
			c.without(p, leased, netset.OfAddrs(a.Addresses...), "the gateway's own address "+quotedAddrs(a.Addresses))
		}
	}
	if !attached {
		c.add(Warn, "carved-not-answered", base+"/carved-from", "attach the gateway to "+n.Name+", or take the pool apart from it", "no gateway is attached to %s, so nobody answers for people's addresses there: no answer reaches them", n.Name)
	}
	for i := range c.p.Hosts {
		h := &c.p.Hosts[i]
		c.without(p, leased, h.Space(), "host "+h.Name)
	}
	for i := range c.p.Routers {
		r := &c.p.Routers[i]
		c.without(p, leased, netset.OfAddrs(r.Addresses...), "router "+r.Name)
	}
	for _, r := range n.DHCP {
		c.without(p, leased, netset.OfSpans(r.Span), "what the network's DHCP gives out ("+r.String()+")")
	}
	for _, prefix := range n.Prefixes {
		if prefix.Addr().Is4() && prefix.Bits() <= 30 {
			c.without(p, leased, netset.OfAddrs(prefix.Masked().Addr(), netset.Last(prefix)),
				"the first or last address of "+prefix.String())
		}
	}
}

// without finds addresses that somebody else has among those that are leased, and excludes them.
func (c *checker) without(p *plan.Pool, leased, taken netset.Addrs, whose string) {
	both := leased.Intersect(taken)
	if len(both) == 0 {
		return
	}
	c.add(Stop, "pool-holds-taken", "pools/"+p.Name, "exclude "+both.String(), "pool %s leases %s, which is %s: two would have the same address", p.Name, both, whose)
	for _, s := range both {
		c.mend("add", "pools/"+p.Name+"/exclude", quote(s))
	}
}

func quotedAddrs(as []netip.Addr) string {
	out := make([]string, len(as))
	for i, a := range as {
		out[i] = a.String()
	}
	return quoted(out)
}

// reserved finds reservations that cannot be kept.
func (c *checker) reserved(p *plan.Pool) {
	seen := map[netip.Addr]string{}
	has := p.Addresses()
	servers := map[netip.Addr]bool{}
	for _, passage := range c.p.Passages {
		for _, s := range passage.DNS.Servers {
			servers[s] = true
		}
	}
	for i, r := range p.Reserved {
		path := at("pools/"+p.Name+"/reserved", i)
		other, twice := seen[r.Address]
		switch {
		case twice:
			c.add(Stop, "reserved-twice", path+"/address", "give each user an address of their own", "%s is kept for %s and for %s",
				r.Address, other, r.User)
		case servers[r.Address] || c.m != nil && c.m.OwnAddresses().Contains(r.Address):
			c.add(Stop, "reserved-taken", path+"/address", "keep another one",
				"%s belongs to the gateway or is a name server: %s cannot have it", r.Address, r.User)
		case !has.Contains(r.Address):
			c.add(Stop, "reserved-outside", path+"/address", "keep one of "+has.String(),
				"%s is not among what pool %s leases: %s never gets it", r.Address, p.Name, r.User)
		}
		seen[r.Address] = r.User
	}
}

func (c *checker) size(p *plan.Pool, base string) {
	supply := p.Addresses()
	if len(supply) == 0 {
		c.add(Stop, "pool-empty", base, "give it a prefix or range that is not all excluded", "pool %s leases no address: nobody who needs it can connect", p.Name)
		return
	}
	users := 0
	for _, class := range c.classes {
		if class.Passage != nil && class.Passage.Passage.Pool == p.Name {
			users += len(class.Users)
		}
	}
	path := base + "/prefixes"
	if len(p.Prefixes) == 0 {
		path = base + "/ranges"
	}
	for _, family := range []netset.Addrs{netset.All4, netset.All6} {
		part := supply.Intersect(family)
		if room := pool.Room(part, family.Equal(netset.All4), p.PrefixEach, users); len(part) > 0 && room < users {
			c.add(Warn, "pool-too-small", path, "use a larger one", "pool %s has %d %s for %d users: %d cannot connect when all do",
				p.Name, room, leasesOf(p, family), users, users-room)
		}
	}
}

// freePrefix is the first prefix of the same size or the next larger one that collides with nothing in the plan nor with a typical
// home.
func (c *checker) freePrefix(like netset.Addrs) string {
	taken := typicalHomes.Union(c.n.InsideAddrs())
	for i := range c.p.Pools {
		taken = taken.Union(c.p.Pools[i].Space()).Union(netset.OfPrefixes(c.p.Pools[i].Prefixes...))
	}
	for _, r := range c.p.Routers {
		for _, route := range r.Routes {
			if route.To.Bits() > 0 {
				taken = taken.Union(netset.OfPrefixes(route.To))
			}
		}
	}
	from, bits, least := netip.MustParseAddr("10.99.0.0"), 32, 16
	if len(like) > 0 && like[0].From.Is6() {
		from, bits, least = netip.MustParseAddr("fd00:99::"), 128, 48
	}
	for size := like.Count(1 << 16); bits > least && 1<<(from.BitLen()-bits) < size; {
		bits--
	}
	if len(like) == 1 {
		if ps := like.Prefixes(); len(ps) == 1 {
			bits = max(ps[0].Bits(), least)
		}
	}
	for range 4096 {
		p := netip.PrefixFrom(from, bits).Masked()
		if !netset.OfPrefixes(p).Overlaps(taken) {
			return p.String()
		}
		from = netset.Last(p).Next()
		if !plan.Private.Contains(from) {
			from = netip.MustParseAddr("172.20.0.0")
		}
	}
	return fmt.Sprintf("another /%d", bits)
}

// roomIn is how many sessions a pool has something for in every family that it has, counted up to most.
func roomIn(p *plan.Pool, most int) int {
	supply, room := p.Addresses(), most
	for _, family := range []netset.Addrs{netset.All4, netset.All6} {
		if part := supply.Intersect(family); len(part) > 0 {
			room = min(room, pool.Room(part, family.Equal(netset.All4), p.PrefixEach, most))
		}
	}
	if len(supply) == 0 {
		return 0
	}
	return room
}

// leasesOf is what a pool leases of a family.
func leasesOf(p *plan.Pool, family netset.Addrs) string {
	if p.PrefixEach > 0 && family.Equal(netset.All6) {
		return "prefixes"
	}
	return "addresses"
}

// prefixes finds what goes wrong with a pool that leases prefixes.
func (c *checker) prefixes(p *plan.Pool) {
	path := "pools/" + p.Name + "/prefix-each"
	switch {
	case p.PrefixEach == 0:
	case p.PrefixEach < pool.ShortestEach || p.PrefixEach > pool.LongestEach:
		c.add(Stop, "out-of-range", path, "use 64", "prefixes of length %d are not leased: %d to %d are", p.PrefixEach, pool.ShortestEach, pool.LongestEach)
		c.mend("set", path, "64")
	case p.CarvedFrom != "":
		c.add(Stop, "prefix-carved", path, "leave it out, or take the pool apart from network "+p.CarvedFrom,
			"pool %s is carved from network %s: the gateway answers there for single addresses, not for whole prefixes", p.Name, p.CarvedFrom)
		c.mend("remove", path, "")
	case len(p.Addresses().Intersect(netset.All6)) == 0:
		c.add(Warn, "prefix-of-none", path, "give the pool an IPv6 prefix, or leave it out", "pool %s has no IPv6: there is no prefix to lease", p.Name)
		c.mend("remove", path, "")
	case pool.Room(p.Addresses(), false, p.PrefixEach, 1) == 0:
		c.add(Stop, "pool-empty", path, "give it a prefix shorter than "+fmt.Sprint(p.PrefixEach),
			"pool %s holds no whole prefix of length %d: nobody can connect", p.Name, p.PrefixEach)
	}
}
