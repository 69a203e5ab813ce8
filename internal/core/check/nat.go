package check

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// translations finds traffic that gets in and whose answer does not find its way back, and entries that never match.
func (c *checker) translations() {
	if c.m == nil {
		return
	}
	c.waysBack()
	c.catches()
	pools := netset.Addrs{}
	for i := range c.p.Pools {
		pools = pools.Union(c.p.Pools[i].Space())
	}
	var earlier []entry
	for _, t := range c.p.NAT {
		if t.Off {
			continue
		}
		e := entry{t, c.n.Ends(t.From), c.n.Ends(t.To)}
		path := "nat/" + t.Name
		if !e.from.Overlaps(pools) && !e.from.Overlaps(c.n.InsideAddrs()) {
			c.add(Warn, "translation-never", path+"/from", "name a pool or an inside network",
				"%s never matches: no remote person's address and no inside network is among its sources", t.Name)
		}
		for _, o := range earlier {
			if (o.Out == "" || o.Out == t.Out) && o.from.Covers(e.from) && o.to.Covers(e.to) {
				c.add(Warn, "translation-shadowed", path, "move it before "+o.Name+", or remove it",
					"%s never acts: %s stands before it and takes all of its traffic", t.Name, o.Name)
				c.mend("remove", path, "")
				break
			}
		}
		c.hides(e, earlier, pools)
		earlier = append(earlier, e)
	}
}

// catches finds translations that take what is opened from inside towards people: it comes from the gateway's own address then, and no rule
// is about that. Where an expectation is about it, it stops the plan.
func (c *checker) catches() {
	for _, class := range c.classes {
		if class.Passage == nil || !class.ReachedFromInside() {
			continue
		}
		peers := c.m.InwardRulesSet(class.Class, site.Ever).Destinations()
		for _, atom := range c.m.SourceAtoms(class.Passage.Pool) {
			for _, part := range c.m.ArrivingSet(atom) {
				if caught := peers.Intersect(part.Src); part.As.IsValid() && len(caught) > 0 {
					c.catch(class, atom, caught, part.As)
				}
			}
		}
	}
}

func (c *checker) catch(class reach.Class, people, caught netset.Addrs, as netip.Addr) {
	_, _, ref := c.m.SourceInward(site.Packet{Src: caught[0].From, Dst: people[0].From})
	severity, depends := Warn, ""
	for _, e := range c.p.Expectations {
		if e.Inward() && e.Must == plan.Reach && c.n.Destinations(e.From).Overlaps(caught) &&
			(e.Everyone || slices.ContainsFunc(e.Groups, func(g string) bool { return slices.Contains(class.Groups, g) })) {
			severity, depends = Stop, "; "+e.Name+" depends on it"
		}
	}
	var networks []string
	for _, n := range c.p.Networks {
		if netset.OfPrefixes(n.Prefixes...).Overlaps(caught) {
			networks = append(networks, n.Name)
		}
	}
	if len(networks) == 0 {
		return
	}
	pool := class.Passage.Passage.Pool
	c.add(severity, "translation-catches-inside", ref.String(), "exempt it before: from "+quoted(networks)+" to "+pool,
		"%s also translates what %s opens towards %s: it comes from %s there, the gateway's own address, which no rule is about, and is lost%s",
		ref.Name, quoted(networks), class.Name(), as, depends)
	for _, e := range reach.Exempting(c.m, ref.Name, pool, networks) {
		c.mend(e.Op, e.Path, e.Value)
	}
}

// entry is an exemption or translation with what it is about.
type entry struct {
	plan.Translation
	from, to netset.Addrs
}

// hides finds inside networks that a translation is about after all, because no exemption before it covers them.
func (c *checker) hides(e entry, earlier []entry, pools netset.Addrs) {
	if e.Action != plan.Translate || e.Out == plan.Internet {
		return
	}
	var exempt string
	rest := e.to
	for _, o := range earlier {
		if o.from.Covers(e.from.Intersect(pools)) {
			rest = rest.Subtract(o.to)
			if o.Action == plan.Exempt && len(o.To) > 0 {
				exempt = o.Name
			}
		}
	}
	var hidden []string
	for _, n := range c.p.Networks {
		if rest.Overlaps(netset.OfPrefixes(n.Prefixes...)) && n.Site == "" {
			hidden = append(hidden, n.Name)
		}
	}
	switch {
	case len(hidden) == 0:
	case exempt != "":
		c.add(Warn, "exemption-partial", "nat/"+exempt+"/to", "add "+quoted(hidden), "%s exempts some inside networks, but %s translates traffic to %s: people look like the gateway there, and what is opened from there towards them fails", exempt, e.Name, quoted(hidden))
		for _, n := range hidden {
			c.mend("add", "nat/"+exempt+"/to", n)
		}
	default:
		c.add(Note, "translation-hides", "nat/"+e.Name, "exempt what inside logs should tell apart", "%s translates traffic to %s: logs there show the gateway's address, not whose traffic it was", e.Name, quoted(hidden))
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
				service, _ := slab.Svc.Example()
				p := site.Packet{Src: part.Src[0].From, Dst: slab.Dst.From, Service: service}
				lost := c.m.Travel(class.Class, p, netset.OfAddrs(p.Src), site.Ever)
				at := lost.LostAt()
				if at == nil || at.Station != site.Return {
					continue // what only some hours allow is not astray
				}
				told[net.Name+class.Passage.Passage.Pool] = true
				c.add(Stop, "no-way-back", "networks/"+net.Name+"/router",
					"give the router of "+net.Name+" a route to "+part.Src.String()+" by way of the gateway, or translate the source",
					"packets of %s get to network %s, but no answer comes back: %s", class.Name(), net.Name, at.Words)
			}
		}
	}
}
