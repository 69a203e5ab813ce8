package site

import (
	"slices"
	"strings"
	"sync"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Passage is a compiled passage.
type Passage struct {
	*plan.Passage
	Pool   netset.Addrs // what is leased
	Routes netset.Addrs // the selectors: what may go through the tunnel
	sent   netset.Addrs // what its devices send into the tunnel: Routes without home networks that they cover whole
	shut   bool         // every tunnel of this gateway's that it names is off
}

// Class is everybody with the same set of groups, as the stations see them.
type Class struct {
	Groups          []string // sorted
	Passage         *Passage // nil: not admitted
	Shut            *Passage // takes them, and lets nobody in, for its tunnels are off; nil otherwise
	outward, inward side     // the rules about what they open, and about what is opened towards them
	laid            sync.Once
}

func (m *Model) compilePassages() {
	for i := range m.Plan.Passages {
		p := &m.Plan.Passages[i]
		if p.Off || !m.offers(p) {
			continue
		}
		c := Passage{Passage: p, shut: !m.open(p)}
		if pool := m.Names.Pools[p.Pool]; pool != nil {
			c.Pool = pool.Addresses()
		}
		if c.Routes = m.Names.Destinations(p.Routes.Split); p.Routes.Full {
			c.Routes = netset.Everywhere
		}
		if p.Factor.Asked {
			c.Routes = c.Routes.Union(m.page)
		}
		c.sent = c.Routes
		for _, home := range p.HomeNetworks {
			if at := span(home); c.Routes.Covers(at) {
				c.sent = c.sent.Subtract(at)
			}
		}
		m.passages = append(m.passages, c)
	}
}

// offers tells whether one of the passage's tunnels is this gateway's.
func (m *Model) offers(p *plan.Passage) bool {
	return slices.ContainsFunc(p.Tunnels, func(name string) bool {
		t := m.Names.Tunnels[name]
		return t != nil && t.Gateway == m.Gateway.Name
	})
}

// open tells whether one of those is on. A passage whose tunnels are off takes its people all the same: whoever switches a tunnel off does
// not mean to give them another passage's rights.
func (m *Model) open(p *plan.Passage) bool {
	return slices.ContainsFunc(p.Tunnels, func(name string) bool {
		t := m.Names.Tunnels[name]
		return t != nil && !t.Off && t.Gateway == m.Gateway.Name
	})
}

// Off are the tunnels by which people would come in by a passage, and which are off.
func (m *Model) Off(p *Passage) (out []string) {
	for _, name := range p.Tunnels {
		if t := m.Names.Tunnels[name]; t != nil && t.Off && t.Gateway == m.Gateway.Name {
			out = append(out, name)
		}
	}
	return out
}

// Class is what the stations need to know of people with these groups. It is worked out once: all who have the same groups share it, and it
// must not be altered.
func (m *Model) Class(groups []string) *Class {
	groups = slices.Compact(slices.Sorted(slices.Values(groups)))
	key := strings.Join(groups, "\x00")
	if known, ok := m.classes.Load(key); ok {
		return known.(*Class)
	}
	known, _ := m.classes.LoadOrStore(key, m.class(groups))
	return known.(*Class)
}

func (m *Model) class(groups []string) *Class {
	c := &Class{Groups: groups}
	for i := range m.passages {
		if slices.ContainsFunc(m.passages[i].Groups, c.in) {
			c.Passage = &m.passages[i]
			break
		}
	}
	if c.Passage != nil && c.Passage.shut {
		c.Passage, c.Shut = nil, c.Passage
	}
	mine := slices.Clone(m.rulesFor[everyone])
	for _, g := range c.Groups {
		mine = append(mine, m.rulesFor[g]...)
	}
	slices.Sort(mine)
	for _, i := range slices.Compact(mine) {
		r := &m.rules[i]
		if r.Inward() {
			c.inward.add(r)
		} else {
			c.outward.add(r)
		}
	}
	return c
}

func (c *Class) in(group string) bool {
	_, found := slices.BinarySearch(c.Groups, group)
	return found
}

// Name says who is in the class.
func (c *Class) Name() string {
	if len(c.Groups) == 0 {
		return "(no group)"
	}
	return strings.Join(c.Groups, " + ")
}

// Admit is the admission station.
func (m *Model) Admit(c *Class) Verdict {
	if c.Passage == nil {
		if c.Shut != nil {
			off := m.Off(c.Shut)
			return lost("tunnels/"+off[0]+"/off", "passage %s takes %s, and its tunnels are off (%s)", c.Shut.Name, c.Name(),
				strings.Join(off, ", "))
		}
		return lost("passages", "no passage admits %s", c.Name())
	}
	return pass("passages/"+c.Passage.Name, "admitted by passage %s", c.Passage.Name)
}
