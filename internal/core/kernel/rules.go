package kernel

import (
	"fmt"
	"net/netip"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
)

// Rules is the table: named sets of addresses, and chains.
type Rules struct {
	Sets   []Set
	Chains []Chain
}

// Set is a set of addresses of one family.
type Set struct {
	Name string
	V6   bool
	Of   netset.Addrs
}

// WithoutTimeouts is the table for a kernel that cannot be told how long to remember connections.
func (r *Rules) WithoutTimeouts() Rules {
	out := Rules{Sets: r.Sets}
	for _, c := range r.Chains {
		if len(c.Rules) == 0 || c.Rules[0].Do != Last {
			out.Chains = append(out.Chains, c)
		}
	}
	return out
}

// Where a chain hangs; the numbers of priorities are those of nf_tables.
const (
	HookArriving = "prerouting"
	HookPassing  = "forward"
	HookLeaving  = "postrouting"

	// PriorityTranslation is the lowest at which the kernel takes translations: ours come before those of others, and what is translated to
	// itself stays so.
	PriorityTranslation = -199
	PriorityPassing     = -10
	PriorityLasting     = -150
)

// Chain is a list of rules; without a hook it is jumped to.
type Chain struct {
	Name     string
	Hook     string
	NAT      bool
	Priority int
	Rules    []Rule
}

// Do is what a rule does.
type Do int

// What rules do.
const (
	Return Do = iota
	Accept
	Drop
	NoRoute    // refuses with ICMP "no route"
	SourceSame // translates the source to itself
	TargetSame // translates the destination to itself
	SourceTo   // translates the source to As
	Jump       // to the chain Name
	Last       // sets how long the flow is remembered, by the timeout Name
)

// Rule matches a packet by what is given of it.
type Rule struct {
	In, Out string // links
	From    string // set that holds the source
	To      string // set that holds the destination
	V6      bool   // of the sets and of what is done
	Family  bool   // only of this family, where no set says so
	Invalid bool   // belongs to no connection that the kernel can follow
	Fresh   bool   // belongs to none, or opens one
	Known   bool   // belongs to one
	Count   bool
	Do      Do
	Name    string
	As      netip.Addr
	Why     string // entry of the plan, or what it is for
}

// builder gathers sets, each once.
type builder struct {
	out   Rules
	named map[string]string // by family and content
}

// set gives the name of a set; "" where it is everything of its family.
func (b *builder) set(name string, v6 bool, of netset.Addrs) string {
	family, n := netset.All4, "4"
	if v6 {
		family, n = netset.All6, "6"
	}
	if of = of.Intersect(family); of.Equal(family) {
		return ""
	}
	key := n + of.String()
	if known, ok := b.named[key]; ok {
		return known
	}
	name += "-" + n
	for i, base := 2, name; b.taken(name); i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	b.named[key] = name
	b.out.Sets = append(b.out.Sets, Set{name, v6, of})
	return name
}

func (b *builder) taken(name string) bool {
	for _, s := range b.out.Sets {
		if s.Name == name {
			return true
		}
	}
	return false
}

func has(a netset.Addrs, v6 bool) bool { return a.HasFamily(!v6) }

// rules makes the table of what a plan wants.
func rules(d inside.Desired, l Links) Rules {
	b := &builder{named: map[string]string{}}
	for _, v6 := range []bool{false, true} { // what many rules are about has a name of its own
		if has(d.People, v6) {
			b.set("people", v6, d.People)
		}
		for _, w := range d.Ways {
			if has(w.Leads, v6) {
				b.set(w.Network, v6, w.Leads)
			}
			if has(w.Comes, v6) {
				b.set("from-"+w.Network, v6, w.Comes)
			}
		}
	}
	arriving := Chain{Name: "arriving", Hook: HookArriving, NAT: true, Priority: PriorityTranslation}
	for _, v6 := range []bool{false, true} {
		arriving.Rules = append(arriving.Rules,
			Rule{In: l.Device, V6: v6, Family: true, Do: TargetSame, Why: "people get where they go, whatever others translate"})
	}
	b.out.Chains = append(b.out.Chains, arriving)
	if l.Timeouts {
		b.lasting(d)
	}
	b.passing(d, l)
	b.fromPeople(d, l)
	b.toPeople(d, l)
	b.leaving(d, l)
	return b.out
}

// lasting makes the kernel remember people's flows for as long as we do.
func (b *builder) lasting(d inside.Desired) {
	c := Chain{Name: "lasting", Hook: HookArriving, Priority: PriorityLasting}
	for _, v6 := range []bool{false, true} {
		if !has(d.People, v6) {
			continue
		}
		people := b.set("people", v6, d.People)
		for _, t := range Timeouts {
			if t.V6 == v6 {
				c.Rules = append(c.Rules,
					Rule{From: people, V6: v6, Family: true, Do: Last, Name: t.Name}, Rule{
						To: people, V6: v6, Family: true, Do: Last,
						Name: t.Name,
					})
			}
		}
	}
	b.out.Chains = append(b.out.Chains, c)
}

// passing is where what is forwarded is looked at: both directions of people's, and, where the machine would forward nothing without us,
// everything else.
func (b *builder) passing(d inside.Desired, l Links) {
	c := Chain{Name: "passing", Hook: HookPassing, Priority: PriorityPassing, Rules: []Rule{
		{In: l.Device, Do: Jump, Name: "from-people"}, {Out: l.Device, Do: Jump, Name: "to-people"},
	}}
	if l.Guard {
		c.Rules = append(c.Rules, Rule{In: l.Device, Do: Return}, Rule{Out: l.Device, Do: Return})
		through := false
		for _, t := range d.Translations {
			in, out := l.Of[t.In], l.Of[t.Out]
			if t.In == inside.Tunnels || t.Out == inside.Tunnels || t.Exempt || !t.As.IsValid() || in == "" || out == "" {
				continue
			}
			v6 := t.As.Is6()
			c.Rules = append(c.Rules, Rule{
				In: in, Out: out, From: b.set(t.Entry+"-from", v6, t.From), To: b.set(t.Entry+"-to", v6, t.To), V6: v6, Family: true, Do: Return,
				Why: t.Entry,
			})
			through = true
		}
		if through {
			c.Rules = append(c.Rules, Rule{Known: true, Do: Return})
		}
		c.Rules = append(c.Rules, Rule{Count: true, Do: Drop, Why: "forwarding is on for people alone"})
	}
	b.out.Chains = append(b.out.Chains, c)
}

// fromPeople lets what people send leave by the link that the plan says, and by no other.
func (b *builder) fromPeople(d inside.Desired, l Links) {
	b.followed("followed", d, l, func(t inside.Translation) (in, out string, is bool) { return "", l.Of[t.Out], t.In == inside.Tunnels })
	c := Chain{Name: "from-people", Rules: []Rule{{Do: Jump, Name: "followed"}}}
	for _, w := range d.Ways {
		for _, v6 := range []bool{false, true} {
			if link := l.Of[w.Network]; link != "" && has(w.Leads, v6) {
				c.Rules = append(c.Rules, Rule{Out: link, To: b.set(w.Network, v6, w.Leads), V6: v6, Family: true, Do: Return})
			}
		}
	}
	c.Rules = append(c.Rules, Rule{Count: true, Do: NoRoute, Why: "the machine would send it another way than the plan says"})
	b.out.Chains = append(b.out.Chains, c)
}

// followed loses what a translation is about and cannot take: what belongs to no connection that the kernel can follow would leave with a
// person's address, and so would what there is no address for.
func (b *builder) followed(name string, d inside.Desired, l Links, links func(inside.Translation) (in, out string, is bool)) {
	c := Chain{Name: name}
	for _, t := range d.Translations {
		in, out, is := links(t)
		if !is || in == "" && out == "" {
			continue
		}
		v6 := t.To[0].From.Is6()
		r := Rule{
			In: in, Out: out, From: b.set(t.Entry+"-from", v6, t.From), To: b.set(t.Entry+"-to", v6, t.To), V6: v6, Family: true, Do: Return, Why: t.Entry,
		}
		switch {
		case t.Exempt:
		case t.As.IsValid():
			lost := r
			lost.Invalid, lost.Count, lost.Do = true, true, Drop
			c.Rules = append(c.Rules, lost)
		default:
			r.Fresh, r.Count, r.Do = true, true, Drop // what belongs to a connection has its source already
			r.Why += ": there is no address of this family to translate to"
		}
		c.Rules = append(c.Rules, r)
	}
	b.out.Chains = append(b.out.Chains, c)
}

// toPeople is the origin station: what goes to people comes by a link that leads to where it says it is from.
func (b *builder) toPeople(d inside.Desired, l Links) {
	b.followed("followed-in", d, l, func(t inside.Translation) (in, out string, is bool) {
		return l.Of[t.In], "", t.Out == inside.Tunnels && t.In != inside.Tunnels
	})
	c := Chain{Name: "to-people", Rules: []Rule{{Do: Jump, Name: "followed-in"}}}
	for _, w := range d.Ways {
		for _, v6 := range []bool{false, true} {
			if link := l.Of[w.Network]; link != "" && has(w.Comes, v6) {
				c.Rules = append(c.Rules, Rule{In: link, From: b.set("from-"+w.Network, v6, w.Comes), V6: v6, Family: true, Do: Return})
			}
		}
	}
	c.Rules = append(c.Rules, Rule{Count: true, Do: Drop, Why: "it comes by a link that does not lead to where it says it is from"})
	b.out.Chains = append(b.out.Chains, c)
}

// leaving is translation and exemption, in the order of the plan's entries: the first that is about a packet decides.
func (b *builder) leaving(d inside.Desired, l Links) {
	c := Chain{Name: "leaving", Hook: HookLeaving, NAT: true, Priority: PriorityTranslation}
	name := func(way string) string {
		if way == inside.Tunnels {
			return l.Device
		}
		return l.Of[way]
	}
	for _, t := range d.Translations {
		in, out := name(t.In), name(t.Out)
		if in == "" || out == "" || !t.Exempt && !t.As.IsValid() {
			continue
		}
		v6 := t.To[0].From.Is6()
		r := Rule{
			In: in, Out: out, From: b.set(t.Entry+"-from", v6, t.From), To: b.set(t.Entry+"-to", v6, t.To), V6: v6, Family: true, Do: SourceSame,
			Why: t.Entry,
		}
		if !t.Exempt {
			r.Do, r.As = SourceTo, t.As
		}
		c.Rules = append(c.Rules, r)
	}
	b.out.Chains = append(b.out.Chains, c)
}
