package check

import (
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/site"
)

// translations finds traffic that gets in and whose answer does not find its way back, and entries that never match.
func (c *checker) translations() {
	if c.m == nil {
		return
	}
	c.waysBack()
	var earlier []struct {
		name     string
		out      string
		from, to netset.Addrs
	}
	for _, t := range c.p.NAT {
		if t.Off {
			continue
		}
		from, to := netset.Everywhere, netset.Everywhere
		if len(t.From) > 0 {
			from = nil
			for _, w := range t.From {
				a, _ := c.n.Source(w)
				from = from.Union(a)
			}
		}
		if len(t.To) > 0 {
			to = c.n.Destinations(t.To)
		}
		path := "nat/" + t.Name
		pools := netset.Addrs{}
		for i := range c.p.Pools {
			pools = pools.Union(c.p.Pools[i].Space())
		}
		if !from.Overlaps(pools) {
			c.add(Warn, "translation-never", path+"/from", "name a pool", "%s never matches: no remote person's address is among its sources", t.Name)
		}
		for _, e := range earlier {
			if (e.out == "" || e.out == t.Out) && e.from.Covers(from) && e.to.Covers(to) {
				c.add(Warn, "translation-shadowed", path, "move it before "+e.name+", or remove it", "%s never acts: %s stands before it and takes all of its traffic", t.Name, e.name)
				c.mend("remove", path, "")
				break
			}
		}
		earlier = append(earlier, struct {
			name     string
			out      string
			from, to netset.Addrs
		}{t.Name, t.Out, from, to})
	}
}

// waysBack finds, for each class, networks that its packets get to and whose answers go astray.
func (c *checker) waysBack() {
	told := map[string]bool{}
	for i, class := range c.classes {
		if class.Passage == nil {
			continue
		}
		in := c.enforced[i].To(class.Passage.Routes.Intersect(c.n.InsideAddrs()).Intersect(c.m.OnwardSet()))
		if c.full[i].Covers(in) && len(c.reaches[i].Full) == 1 {
			continue
		}
		for _, part := range c.reaches[i].Full {
			family := netset.All6
			if part.Src[0].From.Is4() {
				family = netset.All4
			}
			astray := in.To(family).Subtract(part.Traffic)
			for _, slab := range astray {
				net := c.n.NetworkOf(slab.Dst.From)
				if net == nil || told[net.Name+class.Passage.Passage.Pool] {
					continue
				}
				told[net.Name+class.Passage.Passage.Pool] = true
				service, _ := slab.Svc.Example()
				p := site.Packet{Src: part.Src[0].From, Dst: slab.Dst.From, Service: service}
				j := c.m.Travel(class.Class, p, netset.OfAddrs(p.Src))
				words := ""
				if lost := j.LostAt(); lost != nil {
					words = lost.Words
				}
				c.add(Stop, "no-way-back", "networks/"+net.Name+"/router", "give the router of "+net.Name+" a route to "+part.Src.String()+" by way of the gateway, or translate the source",
					"packets of %s get to network %s, but no answer comes back: %s", class.Name(), net.Name, words)
			}
		}
	}
}
