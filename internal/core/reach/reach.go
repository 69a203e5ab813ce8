// Package reach computes who reaches what, for all traffic at once, by sending sets of packets through the stations of
// package site; holds it against the plan's expectations; and says what a change gains and loses. docs/semantics.md
// defines the two sides of reach that it keeps apart.
package reach

import (
	"sync"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/site"
)

// Part is the reach from some source addresses, all of which fare alike.
type Part struct {
	Src     netset.Addrs
	Traffic netset.Traffic
}

// Reach is what a class of people gets through.
type Reach struct {
	Full     []Part // passes every station at every hour, and the answer comes back
	Enforced []Part // passes what the gateway enforces, at some hour
	// The same of what is opened from inside: of each part, Src is the people's addresses and the traffic's destinations are where
	// it begins.
	InFull, InEnforced []Part
}

// Everywhere joins the parts over all sources: what can be reached from some address of the pool.
func Everywhere(parts []Part) netset.Traffic {
	sets := make([]netset.Traffic, len(parts))
	for i, p := range parts {
		sets[i] = p.Traffic
	}
	return netset.UnionAll(sets)
}

// Always is what can be reached from every address of the pool of the destination's family.
func Always(parts []Part) netset.Traffic {
	var v4, v6 netset.Traffic
	var any4, any6 bool
	for _, p := range parts {
		set, seen := &v6, &any6
		if p.Src[0].From.Is4() {
			set, seen = &v4, &any4
		}
		if *seen {
			*set = set.Intersect(p.Traffic)
		} else {
			*set, *seen = p.Traffic, true
		}
	}
	return v4.Union(v6)
}

// Computer works out reach for many classes of one model, several at once if need be; what depends on the pool alone is worked out once.
type Computer struct {
	Model *site.Model
	route netset.Traffic
	pools map[string]func(netset.Addrs) []source // by name
}

// source is a source atom with what happens to its packets wherever they go.
type source struct {
	src   netset.Addrs
	lost  netset.Addrs // by translation
	comes netset.Addrs // carried there, and the answer back
	back  netset.Addrs // from where the way to these addresses leads to the gateway, and where answers find their way to
}

// NewComputer prepares a model.
func NewComputer(m *site.Model) *Computer {
	c := &Computer{Model: m, route: m.RouteSet(), pools: map[string]func(netset.Addrs) []source{}}
	for i := range m.Plan.Passages {
		if name := m.Plan.Passages[i].Pool; c.pools[name] == nil {
			var once sync.Once
			var out []source
			c.pools[name] = func(pool netset.Addrs) []source {
				once.Do(func() { out = c.sources(pool) })
				return out
			}
		}
	}
	return c
}

// sources are what a pool's addresses are taken apart into.
func (c *Computer) sources(pool netset.Addrs) []source {
	var out []source
	onward := c.Model.OnwardSet()
	for _, atom := range c.Model.SourceAtoms(pool) {
		s := source{src: atom, back: onward.Intersect(c.Model.ReturnSet(atom[0].From))}
		for _, part := range c.Model.TranslationSet(atom) {
			if !part.Src.IsValid() {
				s.lost = s.lost.Union(part.Dst)
				continue
			}
			s.comes = s.comes.Union(part.Dst.Intersect(c.Model.ReturnSet(part.Src)))
		}
		s.comes = s.comes.Intersect(onward)
		out = append(out, s)
	}
	return out
}

// Of computes the reach of a class.
func (c *Computer) Of(class *site.Class) Reach {
	var r Reach
	if class.Passage == nil {
		return r
	}
	let := func(when site.When) (v4, v6 netset.Traffic) {
		t := c.Model.RulesSet(class, when).Intersect(c.route)
		return t.To(netset.All4), t.To(netset.All6)
	}
	let4, let6 := let(site.Ever)
	always4, always6 := let4, let6
	if c.Model.Timed() {
		always4, always6 = let(site.When{})
	}
	device := c.Model.DeviceSet(class)
	for _, s := range c.pools[class.Passage.Passage.Pool](class.Passage.Pool) {
		enforced, always := let6, always6
		if s.src[0].From.Is4() {
			enforced, always = let4, always4
		}
		if len(s.lost) > 0 {
			enforced = enforced.Subtract(netset.Of(s.lost, netset.AnyService))
		}
		r.Enforced = append(r.Enforced, Part{s.src, enforced})
		r.Full = append(r.Full, Part{s.src, always.To(device.Intersect(s.comes))}) // what is lost in translation does not come back
	}
	if class.ReachedFromInside() {
		c.inward(class, device, &r)
	}
	return r
}

// inward computes what is opened from inside towards people of the class.
func (c *Computer) inward(class *site.Class, device netset.Addrs, r *Reach) {
	ever := c.Model.InwardRulesSet(class, site.Ever).To(c.Model.OriginSet())
	always := ever
	if c.Model.Timed() {
		always = c.Model.InwardRulesSet(class, site.When{}).To(c.Model.OriginSet())
	}
	for _, s := range c.pools[class.Passage.Passage.Pool](class.Passage.Pool) {
		var enforced, full []netset.Traffic
		for _, part := range c.Model.ArrivingSet(s.src) {
			if !part.As.IsValid() {
				enforced = append(enforced, ever.To(part.Src))
				full = append(full, always.To(part.Src.Intersect(device).Intersect(s.back)))
				continue
			}
			if c.Model.OwnAddresses().Contains(part.As) {
				continue // no rule is about it
			}
			enforced = append(enforced, netset.Of(part.Src, c.Model.InwardRulesSet(class, site.Ever).At(part.As)))
			if device.Contains(part.As) {
				full = append(full, netset.Of(part.Src.Intersect(s.back), c.Model.InwardRulesSet(class, site.When{}).At(part.As)))
			}
		}
		r.InEnforced = append(r.InEnforced, Part{s.src, netset.UnionAll(enforced)})
		r.InFull = append(r.InFull, Part{s.src, netset.UnionAll(full)})
	}
}
