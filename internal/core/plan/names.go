package plan

import (
	"net/netip"
	"slices"
	"sync"

	"yellowlantern/internal/core/netset"
)

// Names finds the objects of a plan by name and works out what references stand for.
type Names struct {
	plan        *Plan
	Networks    map[string]*Network
	Routers     map[string]*Router
	Hosts       map[string]*Host
	Zones       map[string]*Zone
	Sets        map[string]*HostGroup
	Services    map[string]*Service
	Hours       map[string]*Hours
	Groups      map[string]*Group
	Pools       map[string]*Pool
	Authorities map[string]*Authority
	Sources     map[string]*Source
	Equipment   map[string]*Equipment
	Tunnels     map[string]*Tunnel
	Gateways    map[string]*Gateway
	internet    netset.Addrs
	inside      netset.Addrs
	itself      netset.Addrs // gateways' own addresses
	services    map[string]netset.Services
	sets        map[string]netset.Addrs // by zone or host group

	byPrefix  map[netip.Prefix]*Network
	lengths   []int // of the networks' prefixes, longest first
	byAddress map[netip.Addr]*Host
	first     map[string]int // passage that admits a group, by its place
	nets      func() *netset.Finder
	hosts     func() *netset.Finder
}

// Index prepares the names of a plan; the plan must not change while it is used.
func Index(p *Plan) *Names {
	n := &Names{
		plan:        p,
		Networks:    index(p.Networks, func(o *Network) string { return o.Name }),
		Routers:     index(p.Routers, func(o *Router) string { return o.Name }),
		Hosts:       index(p.Hosts, func(o *Host) string { return o.Name }),
		Zones:       index(p.Zones, func(o *Zone) string { return o.Name }),
		Sets:        index(p.HostGroups, func(o *HostGroup) string { return o.Name }),
		Hours:       index(p.Hours, func(o *Hours) string { return o.Name }),
		Services:    index(p.Services, func(o *Service) string { return o.Name }),
		Groups:      index(p.Groups, func(o *Group) string { return o.Name }),
		Pools:       index(p.Pools, func(o *Pool) string { return o.Name }),
		Authorities: index(p.Authorities, func(o *Authority) string { return o.Name }),
		Sources:     index(p.Sources, func(o *Source) string { return o.Name }),
		Equipment:   index(p.Equipment, func(o *Equipment) string { return o.Name }),
		Tunnels:     index(p.Tunnels, func(o *Tunnel) string { return o.Name }),
		Gateways:    index(p.Gateways, func(o *Gateway) string { return o.Name }),
		services:    map[string]netset.Services{}, sets: map[string]netset.Addrs{}, byPrefix: map[netip.Prefix]*Network{}, byAddress: map[netip.Addr]*Host{},
	}
	n.placeObjects()
	n.first = map[string]int{}
	for i := range p.Passages {
		if x := &p.Passages[i]; !x.Off {
			for _, g := range x.Groups {
				if _, known := n.first[g]; !known {
					n.first[g] = i
				}
			}
		}
	}
	var inside []netip.Prefix
	for _, net := range p.Networks {
		inside = append(inside, net.Prefixes...)
	}
	n.inside = netset.OfPrefixes(inside...)
	n.internet = netset.Everywhere.Subtract(NeverRouted).Subtract(Private).Subtract(n.inside)
	for _, pool := range p.Pools {
		n.internet = n.internet.Subtract(pool.Space())
	}
	for _, g := range p.Gateways {
		n.internet = n.internet.Subtract(netset.OfAddrs(g.Outside.Addresses...))
		n.itself = n.itself.Union(netset.OfAddrs(g.Outside.Addresses...))
		for _, at := range g.Inside {
			n.itself = n.itself.Union(netset.OfAddrs(at.Addresses...))
		}
	}
	for _, s := range p.Services {
		n.services[s.Name] = n.ports(s.Name, map[string]bool{})
	}
	for _, z := range p.Zones {
		var in []netip.Prefix
		for _, net := range p.Networks {
			if net.Zone == z.Name {
				in = append(in, net.Prefixes...)
			}
		}
		n.sets[z.Name] = netset.OfPrefixes(in...)
	}
	for _, g := range p.HostGroups {
		n.sets[g.Name] = n.members(g.Name, map[string]bool{})
	}
	return n
}

// ports is all of a service, with what it includes; a service that includes itself adds nothing.
func (n *Names) ports(name string, seen map[string]bool) netset.Services {
	s := n.Services[name]
	if s == nil || seen[name] {
		return nil
	}
	seen[name] = true
	var set netset.Services
	for _, port := range s.Ports {
		one, _ := netset.ParseServices(port)
		set = set.Union(one)
	}
	for _, other := range s.Includes {
		set = set.Union(n.ports(other, seen))
	}
	return set
}

// members is all of a host group; a group that holds itself adds nothing.
func (n *Names) members(name string, seen map[string]bool) netset.Addrs {
	g := n.Sets[name]
	if g == nil || seen[name] {
		return nil
	}
	seen[name] = true
	var set netset.Addrs
	for _, word := range g.Members {
		if n.Sets[word] != nil {
			set = set.Union(n.members(word, seen))
			continue
		}
		one, _ := n.Destination(word)
		set = set.Union(one)
	}
	return set
}

// placeObjects prepares finding networks and hosts by address. Of two that claim the same, the first has it.
func (n *Names) placeObjects() {
	for i := range n.plan.Networks {
		for _, p := range n.plan.Networks[i].Prefixes {
			if _, taken := n.byPrefix[p.Masked()]; !taken {
				n.byPrefix[p.Masked()] = &n.plan.Networks[i]
			}
			if !slices.Contains(n.lengths, p.Bits()) {
				n.lengths = append(n.lengths, p.Bits())
			}
		}
	}
	slices.SortFunc(n.lengths, func(a, b int) int { return b - a })
	n.nets = finder(n.plan.Networks, func(x *Network) netset.Addrs { return netset.OfPrefixes(x.Prefixes...) })
	n.hosts = finder(n.plan.Hosts, (*Host).Space)
	for i := range n.plan.Hosts {
		for _, a := range n.plan.Hosts[i].Addresses {
			if _, taken := n.byAddress[a]; !taken {
				n.byAddress[a] = &n.plan.Hosts[i]
			}
		}
	}
}

func index[T any](list []T, name func(*T) string) map[string]*T {
	out := make(map[string]*T, len(list))
	for i := range list {
		out[name(&list[i])] = &list[i]
	}
	return out
}

var (
	// NeverRouted is what no gateway forwards (docs/semantics.md, "Route").
	NeverRouted = prefixes("0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/4", "240.0.0.0/4",
		"::/128", "::1/128", "::ffff:0:0/96", "fe80::/10", "ff00::/8")
	// Private is what the internet does not carry: RFC 1918, RFC 6598, RFC 4193.
	Private = prefixes("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
)

func prefixes(texts ...string) netset.Addrs {
	ps := make([]netip.Prefix, len(texts))
	for i, t := range texts {
		ps[i] = netip.MustParsePrefix(t)
	}
	return netset.OfPrefixes(ps...)
}

// InternetAddrs is what the word internet stands for.
func (n *Names) InternetAddrs() netset.Addrs { return n.internet }

// InsideAddrs is every inside network together.
func (n *Names) InsideAddrs() netset.Addrs { return n.inside }

// Destination works out a destination: the name of a network, host, zone or host group, a prefix, address or range, internet, or
// any. ok is false if it stands for nothing.
func (n *Names) Destination(word string) (netset.Addrs, bool) {
	switch word {
	case Internet:
		return n.internet, true
	case Any:
		return netset.Everywhere, true
	case Itself:
		return n.itself, true
	}
	if net := n.Networks[word]; net != nil {
		return netset.OfPrefixes(net.Prefixes...), true
	}
	if h := n.Hosts[word]; h != nil {
		return h.Space(), true
	}
	if set, ok := n.sets[word]; ok {
		return set, true
	}
	return literal(word)
}

// Space is every address of the host, or of the row of hosts.
func (h *Host) Space() netset.Addrs {
	return netset.OfAddrs(h.Addresses...).Union(spansOf(h.Ranges))
}

// First is an address that stands for the host; not valid if it has none.
func (h *Host) First() netip.Addr {
	switch {
	case len(h.Addresses) > 0:
		return h.Addresses[0]
	case len(h.Ranges) > 0:
		return h.Ranges[0].From
	}
	return netip.Addr{}
}

// Some is addresses that stand for the host: its own, and the first of each range.
func (h *Host) Some() []netip.Addr {
	if len(h.Ranges) == 0 {
		return h.Addresses
	}
	out := slices.Clone(h.Addresses)
	for _, r := range h.Ranges {
		out = append(out, r.From)
	}
	return out
}

func literal(word string) (netset.Addrs, bool) {
	s, ok := parseSpan(word)
	return netset.OfSpans(s), ok
}

// Destinations joins several; unknown ones hold nothing.
func (n *Names) Destinations(words []string) netset.Addrs {
	var out netset.Addrs
	for _, w := range words {
		a, _ := n.Destination(w)
		out = out.Union(a)
	}
	return out
}

// Ends joins the words of a translation's from or to: a destination, or the name of a pool, which stands for what it leases. None: any.
func (n *Names) Ends(words []string) netset.Addrs {
	if len(words) == 0 {
		return netset.Everywhere
	}
	var out netset.Addrs
	for _, w := range words {
		a, ok := n.Destination(w)
		if p := n.Pools[w]; p != nil && !ok {
			a = p.Addresses()
		}
		out = out.Union(a)
	}
	return out
}

// Service works out a service: a name, or a service as ParseServices reads it.
func (n *Names) Service(word string) (netset.Services, bool) {
	if s, ok := n.services[word]; ok {
		return s, true
	}
	s, err := netset.ParseServices(word)
	return s, err == nil
}

// ServiceSet joins several; unknown ones hold nothing.
func (n *Names) ServiceSet(words []string) netset.Services {
	var out netset.Services
	for _, w := range words {
		s, _ := n.Service(w)
		out = out.Union(s)
	}
	return out
}

// NetworkOf is the network that holds the address as its most specific one.
func (n *Names) NetworkOf(a netip.Addr) *Network {
	for _, bits := range n.lengths {
		if p, err := a.Prefix(bits); err == nil {
			if net := n.byPrefix[p]; net != nil {
				return net
			}
		}
	}
	return nil
}

// NetworksTouching and HostsTouching are the networks and hosts that have some of these addresses, in the plan's order.
func (n *Names) NetworksTouching(a netset.Addrs) []*Network {
	return touching(n.nets().Touched(a), n.plan.Networks)
}

// HostsTouching is told at NetworksTouching.
func (n *Names) HostsTouching(a netset.Addrs) []*Host {
	return touching(n.hosts().Touched(a), n.plan.Hosts)
}

func touching[T any](which []int, list []T) []*T {
	out := make([]*T, len(which))
	for i, n := range which {
		out[i] = &list[n]
	}
	return out
}

// finder is made when somebody asks for it first.
func finder[T any](list []T, space func(*T) netset.Addrs) func() *netset.Finder {
	return sync.OnceValue(func() *netset.Finder {
		sets := make([]netset.Addrs, len(list))
		for i := range list {
			sets[i] = space(&list[i])
		}
		return netset.NewFinder(sets)
	})
}

// PassageOf is the first passage that admits one of these groups; nil: none does.
func (n *Names) PassageOf(groups []string) *Passage {
	first := len(n.plan.Passages)
	for _, g := range groups {
		if i, known := n.first[g]; known {
			first = min(first, i)
		}
	}
	if first == len(n.plan.Passages) {
		return nil
	}
	return &n.plan.Passages[first]
}

// HostAt is the host with the address, if the plan names one.
func (n *Names) HostAt(a netip.Addr) *Host { return n.byAddress[a] }

// Space is all that belongs to the pool, leased or not: its prefixes and ranges less what they exclude.
func (p *Pool) Space() netset.Addrs {
	return netset.OfPrefixes(p.Prefixes...).Union(spansOf(p.Ranges)).Subtract(spansOf(p.Exclude))
}

// Addresses is what the pool leases: its prefixes without their first and last IPv4 address (of prefixes of 30 bits or
// fewer), without an IPv6 prefix's first (the subnet-router anycast, RFC 4291 §2.6.1), and its ranges, less what is excluded.
func (p *Pool) Addresses() netset.Addrs {
	out := spansOf(p.Ranges)
	for _, prefix := range p.Prefixes {
		s := netset.PrefixSpan(prefix)
		switch {
		case prefix.Addr().Is4() && prefix.Bits() <= 30:
			s.From, s.To = s.From.Next(), s.To.Prev()
		case prefix.Addr().Is6() && prefix.Bits() <= 126 && p.PrefixEach == 0: // prefixes are leased whole
			s.From = s.From.Next()
		}
		out = out.Union(netset.OfSpans(s))
	}
	return out.Subtract(spansOf(p.Exclude))
}
