package check

import (
	"net/netip"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// addresses finds pools that collide, are too small, or are badly chosen.
func (c *checker) addresses() {
	for i := range c.p.Pools {
		p := &c.p.Pools[i]
		base := "pools/" + p.Name
		for k, prefix := range p.Prefixes {
			path := at(base+"/prefixes", k)
			own := netset.OfPrefixes(prefix)
			if prefix != prefix.Masked() {
				c.add(Stop, "host-bits", path, "write "+prefix.Masked().String(), "%s has host bits set: which range is meant is unclear", prefix)
				c.mend("set", path, quote(prefix.Masked()))
			}
			for _, n := range c.p.Networks {
				if p.CarvedFrom == n.Name || !own.Overlaps(netset.OfPrefixes(n.Prefixes...)) {
					continue
				}
				c.add(Stop, "pool-overlaps-network", path, "use "+c.freePrefix(prefix)+", which is free, or say carved-from: "+n.Name,
					"%s overlaps network %s: hosts there look for remote people on their own link, and answers never reach the gateway", prefix, n.Name)
				c.renumber(path, prefix)
			}
			for j := range i {
				if own.Overlaps(c.p.Pools[j].Space()) {
					c.add(Stop, "pool-overlaps-pool", path, "use "+c.freePrefix(prefix)+", which is free", "%s overlaps pool %s: two people would get the same address", prefix, c.p.Pools[j].Name)
					c.renumber(path, prefix)
				}
			}
			if own.Overlaps(typicalHomes) {
				c.add(Warn, "pool-typical-home", path, "use "+c.freePrefix(prefix)+", which is uncommon and free", "%s is what many home routers use: people there cannot tell the tunnel from their home", prefix)
				c.renumber(path, prefix)
			}
			if !p.Owned && !plan.Private.Covers(own) {
				c.add(Warn, "pool-public", path, "use private space such as "+c.freePrefix(prefix)+", or say owned: true", "%s is public space that may belong to somebody else: its owner becomes unreachable", prefix)
				c.renumber(path, prefix)
			}
		}
		for _, g := range c.p.Gateways {
			if p.Space().Overlaps(netset.OfAddrs(g.Outside.Addresses...)) {
				c.add(Stop, "pool-overlaps-outside", base, "use "+c.freePrefix(p.Prefixes[0])+", which is free", "the pool holds the gateway's own outside address")
			}
		}
		c.size(p, base)
	}
}

// renumber mends a pool's prefix by the first free one, if there is one.
func (c *checker) renumber(path string, prefix netip.Prefix) {
	if free, err := netip.ParsePrefix(c.freePrefix(prefix)); err == nil {
		c.mend("set", path, quote(free))
	}
}

func (c *checker) size(p *plan.Pool, base string) {
	supply := p.Addresses()
	if len(supply) == 0 {
		c.add(Stop, "pool-empty", base, "give it a prefix that is not all excluded", "pool %s leases no address: nobody who needs it can connect", p.Name)
		return
	}
	users := 0
	for _, class := range c.classes {
		if class.Passage != nil && class.Passage.Passage.Pool == p.Name {
			users += len(class.Users)
		}
	}
	for _, family := range []netset.Addrs{netset.All4, netset.All6} {
		if part := supply.Intersect(family); len(part) > 0 && part.Count(users) < users {
			c.add(Warn, "pool-too-small", base+"/prefixes", "use a larger prefix", "pool %s has %d addresses for %d users: %d cannot connect when all do", p.Name, part.Count(users), users, users-part.Count(users))
		}
	}
}

// freePrefix is the first prefix of the same size that collides with nothing in the plan nor with a typical home.
func (c *checker) freePrefix(like netip.Prefix) string {
	taken := typicalHomes.Union(c.n.InsideAddrs())
	for i := range c.p.Pools {
		taken = taken.Union(netset.OfPrefixes(c.p.Pools[i].Prefixes...))
	}
	for _, r := range c.p.Routers {
		for _, route := range r.Routes {
			if route.To.Bits() > 0 {
				taken = taken.Union(netset.OfPrefixes(route.To))
			}
		}
	}
	from := netip.MustParseAddr("10.99.0.0")
	bits := max(like.Bits(), 16)
	if like.Addr().Is6() {
		from, bits = netip.MustParseAddr("fd00:99::"), max(like.Bits(), 48)
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
	return "another prefix"
}
