// Package judge holds forwarding and computed reach to docs/semantics.md. The evaluator in this file is written from that
// page alone: it knows the plan's types and nothing of the packages it judges, and prefers the plainest way to the fastest.
package judge

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowlantern/internal/core/plan"
)

// probePacket is a packet in the words of the page.
type probePacket struct {
	src, dst   netip.Addr
	proto      int
	port       int  // TCP, UDP
	kind, code int  // ICMP
	flags      byte // TCP
	size       int
	hops       int
	fragment   bool // it comes in parts, which fit every link
	keep       bool // it must not be cut
}

// ruling is what the page says becomes of a packet.
type ruling struct {
	lostAt   string // first station that loses it or its answer; empty: none
	carried  string // first station at which the running gateway loses it, on the way there; empty: it leaves
	full     bool
	enforced bool
	self     bool
	out      string // attached network, or internet
	hop      netip.Addr
	src      netip.Addr // as it leaves
}

type naive struct {
	p *plan.Plan
	g *plan.Gateway
}

func in(list []string, word string) bool { return slices.Contains(list, word) }

func inPrefix(text string, a netip.Addr) bool { return netip.MustParsePrefix(text).Contains(a) }

func inAny(a netip.Addr, texts ...string) bool {
	return slices.ContainsFunc(texts, func(t string) bool { return inPrefix(t, a) })
}

// page tells whether an address is one of the code page's.
func (n naive) page(a netip.Addr) bool {
	return n.g.CodePage != nil && slices.Contains(n.g.CodePage.Addresses, a)
}

func special(a netip.Addr) bool {
	return inAny(a, "0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/4", "240.0.0.0/4", "::/128", "::1/128", "fe80::/10",
		"ff00::/8") ||
		a.Is4In6()
}

func private(a netip.Addr) bool {
	return inAny(a, "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
}

func (n naive) network(name string) *plan.Network {
	for i := range n.p.Networks {
		if n.p.Networks[i].Name == name {
			return &n.p.Networks[i]
		}
	}
	return nil
}

// home is the network that holds the address as its most specific one.
func (n naive) home(a netip.Addr) *plan.Network {
	var best *plan.Network
	long := -1
	for i := range n.p.Networks {
		for _, p := range n.p.Networks[i].Prefixes {
			if p.Contains(a) && p.Bits() > long {
				best, long = &n.p.Networks[i], p.Bits()
			}
		}
	}
	return best
}

func (n naive) poolSpace(p plan.Pool, a netip.Addr) bool {
	in := slices.ContainsFunc(p.Prefixes, func(x netip.Prefix) bool { return x.Contains(a) }) || between(p.Ranges, a)
	return in && !between(p.Exclude, a)
}

func between(list []plan.Range, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(r plan.Range) bool {
		return r.From.Is4() == a.Is4() && !a.Less(r.From) && !r.To.Less(a)
	})
}

func (n naive) inSomePool(a netip.Addr) bool {
	return slices.ContainsFunc(n.p.Pools, func(p plan.Pool) bool { return n.poolSpace(p, a) })
}

func (n naive) own(a netip.Addr) bool {
	if slices.Contains(n.g.Outside.Addresses, a) {
		return true
	}
	return slices.ContainsFunc(n.g.Inside, func(x plan.Attachment) bool { return slices.Contains(x.Addresses, a) })
}

func (n naive) internet(a netip.Addr) bool {
	for _, g := range n.p.Gateways {
		if slices.Contains(g.Outside.Addresses, a) {
			return false
		}
	}
	return !special(a) && !private(a) && n.home(a) == nil && !n.inSomePool(a)
}

// means tells whether a destination word holds the address.
func (n naive) means(word string, a netip.Addr) bool { return n.meansWithin(word, a, 0) }

func (n naive) meansWithin(word string, a netip.Addr, depth int) bool {
	switch word {
	case "any":
		return true
	case "internet":
		return n.internet(a)
	case "gateway-itself":
		return n.own(a)
	}
	if net := n.network(word); net != nil {
		return slices.ContainsFunc(net.Prefixes, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	for _, h := range n.p.Hosts {
		if h.Name == word {
			return slices.Contains(h.Addresses, a) || between(h.Ranges, a)
		}
	}
	for _, z := range n.p.Zones {
		if z.Name == word {
			return slices.ContainsFunc(n.p.Networks, func(net plan.Network) bool { return net.Zone == word && n.means(net.Name, a) })
		}
	}
	for _, g := range n.p.HostGroups {
		if g.Name == word && depth < 5 {
			return slices.ContainsFunc(g.Members, func(w string) bool { return n.meansWithin(w, a, depth+1) })
		}
	}
	if low, high, ok := strings.Cut(word, "-"); ok {
		from, errFrom := netip.ParseAddr(low)
		to, errTo := netip.ParseAddr(high)
		return errFrom == nil && errTo == nil && from.Is4() == a.Is4() && !a.Less(from) && !to.Less(a)
	}
	if p, err := netip.ParsePrefix(word); err == nil {
		return p.Contains(a)
	}
	x, err := netip.ParseAddr(word)
	return err == nil && x == a
}

func (n naive) anyMeans(words []string, a netip.Addr) bool {
	return slices.ContainsFunc(words, func(w string) bool { return n.means(w, a) })
}

func (n naive) serves(word string, k probePacket) bool {
	for _, s := range n.p.Services {
		if s.Name == word {
			return slices.ContainsFunc(s.Ports, func(port string) bool { return portWord(port, k) }) ||
				slices.ContainsFunc(s.Includes, func(other string) bool { return other != word && n.serves(other, k) })
		}
	}
	return portWord(word, k)
}

func portWord(word string, k probePacket) bool {
	switch word {
	case "any":
		return true
	case "ping":
		return k.proto == 1 && k.kind == 8 || k.proto == 58 && k.kind == 128
	case "icmp/echo":
		return k.proto == 1 && k.kind == 8
	}
	name, rest, finer := strings.Cut(word, "/")
	proto := map[string]int{"tcp": 6, "udp": 17, "icmp": 1, "icmpv6": 58}[name]
	if name == "proto" {
		return rest == strconv.Itoa(k.proto)
	}
	if k.proto != proto {
		return false
	}
	if !finer {
		return true
	}
	low, high, isRange := strings.Cut(rest, "-")
	from, _ := strconv.Atoi(low)
	to := from
	if isRange {
		to, _ = strconv.Atoi(high)
	}
	value := k.port
	if proto == 1 || proto == 58 {
		value = k.kind
	}
	return from <= value && value <= to
}

// passage is the first enabled passage of this gateway that lists one of the groups.
func (n naive) passage(groups []string) *plan.Passage {
	for i := range n.p.Passages {
		p := n.settled(n.p.Passages[i])
		offered, open := false, false
		for _, t := range n.p.Tunnels {
			if in(p.Tunnels, t.Name) && t.Gateway == n.g.Name {
				offered, open = true, open || !t.Off
			}
		}
		if !p.Off && offered && slices.ContainsFunc(groups, func(g string) bool { return in(p.Groups, g) }) {
			if !open {
				return nil
			}
			return p
		}
	}
	return nil
}

// settled is the passage with what it takes from the defaults of this plan's only gateway.
func (n naive) settled(p plan.Passage) *plan.Passage {
	d := n.g.Defaults
	if d == nil {
		return &p
	}
	if p.Tunnels == nil {
		p.Tunnels = d.Tunnels
	}
	if p.Pool == "" {
		p.Pool = d.Pool
	}
	if !p.Routes.Full && p.Routes.Split == nil {
		p.Routes = d.Routes
	}
	return &p
}

// moment is the time that a question is about: a minute of a day of the week, or all of them (always), or some of them (ever).
type moment struct {
	always, ever bool
	day          int // Monday is 0
	minute       int
}

// acts tells whether a rule with hours applies.
func (n naive) acts(r plan.Rule, at moment) bool {
	switch {
	case r.Hours == "":
		return true
	case at.always:
		return r.Action == "refuse"
	case at.ever:
		return r.Action == "permit"
	}
	for _, h := range n.p.Hours {
		if h.Name != r.Hours {
			continue
		}
		// All minutes of the week that are in the hours, one after another.
		for d, day := range []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"} {
			if len(h.Days) > 0 && !in(h.Days, day) {
				continue
			}
			end := h.To.Minutes
			if end < h.From.Minutes {
				end += 24 * 60
			}
			for m := h.From.Minutes; m < end; m++ {
				if (d*24*60+m)%(7*24*60) == at.day*24*60+at.minute {
					return true
				}
			}
		}
		return false
	}
	return r.Action == "refuse"
}

func (n naive) rules(groups []string, k probePacket, at moment) bool {
	return n.ruled(groups, k, at, false)
}

// ruled asks the rules of one direction.
func (n naive) ruled(groups []string, k probePacket, at moment, inward bool) bool {
	v4 := k.dst.Is4()
	switch {
	case k.proto == 1 && (!v4 || k.kind != 8 && k.kind != 13), k.proto == 58 && (v4 || k.kind != 128):
		return false
	}
	permitted := false
	for _, r := range n.p.Rules {
		applies := len(r.Groups) == 0 || slices.ContainsFunc(groups, func(g string) bool { return in(r.Groups, g) })
		words, end := r.To, k.dst
		if len(r.From) > 0 {
			words, end = r.From, k.src
		}
		if r.Off || (len(r.From) > 0) != inward || !n.acts(r, at) || !applies || !n.anyMeans(words, end) ||
			!slices.ContainsFunc(r.Services, func(s string) bool { return n.serves(s, k) }) {
			continue
		}
		if r.Action == "refuse" {
			return false
		}
		ping := k.proto == 1 && k.kind == 8 || k.proto == 58 && k.kind == 128
		if !inward && n.own(k.dst) && !ping && !in(r.To, "gateway-itself") {
			continue
		}
		permitted = true
	}
	return permitted
}

// route gives the way out; ok is false if the packet is lost.
func (n naive) route(k probePacket) (self bool, out string, hop netip.Addr, ok bool) {
	if special(k.dst) || n.page(k.dst) {
		return
	}
	for _, at := range n.g.Inside {
		if net := n.network(at.Network); net != nil {
			for _, p := range net.Prefixes {
				if p.Addr().Is4() && p.Bits() <= 30 && (k.dst == p.Masked().Addr() || k.dst == lastOf(p)) {
					return
				}
			}
		}
	}
	if n.own(k.dst) {
		return true, "", netip.Addr{}, true
	}
	if n.inSomePool(k.dst) {
		return
	}
	long := -1
	attached := func(a netip.Addr) string { // the most specific attached prefix
		name, bits := "", -1
		for _, at := range n.g.Inside {
			if net := n.network(at.Network); net != nil {
				for _, p := range net.Prefixes {
					if p.Contains(a) && p.Bits() > bits {
						name, bits = net.Name, p.Bits()
					}
				}
			}
		}
		return name
	}
	for _, at := range n.g.Inside {
		if net := n.network(at.Network); net != nil {
			for _, p := range net.Prefixes {
				if p.Contains(k.dst) && p.Bits() > long {
					out, hop, long = net.Name, netip.Addr{}, p.Bits()
				}
			}
		}
	}
	for _, r := range n.g.Routes {
		if r.To.Contains(k.dst) && r.To.Bits() > long && attached(r.Via) != "" {
			out, hop, long = attached(r.Via), r.Via, r.To.Bits()
		}
	}
	if long < 0 && n.g.Internet {
		return false, "internet", netip.Addr{}, true
	}
	return false, out, hop, long >= 0
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < 8*len(b); i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

func (n naive) translate(k probePacket, out string) (netip.Addr, bool) {
	for _, t := range n.p.NAT {
		if t.Off || t.Gateway != n.g.Name || !n.endIs(t.From, k.src) || !n.endIs(t.To, k.dst) || t.Out != "" && t.Out != out {
			continue
		}
		if t.Action == "exempt" {
			return k.src, true
		}
		candidates := []netip.Addr{t.Address}
		if !t.Address.IsValid() {
			candidates = n.g.Outside.Addresses
			if out != "internet" {
				candidates = nil
				for _, at := range n.g.Inside {
					if at.Network == out || out == "" { // "" is a tunnel
						candidates = append(candidates, at.Addresses...)
					}
				}
			}
		}
		for _, a := range candidates {
			if a.Is4() == k.dst.Is4() {
				return a, true
			}
		}
		return netip.Addr{}, false
	}
	return k.src, true
}

// endIs tells whether one of the words of a translation's from or to means an address; no words mean any.
func (n naive) endIs(words []string, a netip.Addr) bool {
	return len(words) == 0 || slices.ContainsFunc(words, func(w string) bool {
		for _, p := range n.p.Pools {
			if p.Name == w {
				return n.leases(p, a)
			}
		}
		return n.means(w, a)
	})
}

// ways are the networks by which the best routes lead to an address, or the internet.
func (n naive) ways(a netip.Addr) (out []string) {
	type entry struct {
		to  netip.Prefix
		way string
	}
	var all []entry
	for _, at := range n.g.Inside {
		if net := n.network(at.Network); net != nil {
			for _, p := range net.Prefixes {
				all = append(all, entry{p, net.Name})
			}
		}
	}
	direct := len(all)
	for _, r := range n.g.Routes {
		bits, way := -1, ""
		for _, e := range all[:direct] {
			if e.to.Contains(r.Via) && e.to.Bits() > bits {
				bits, way = e.to.Bits(), e.way
			}
		}
		if way != "" {
			all = append(all, entry{r.To, way})
		}
	}
	if n.g.Internet {
		all = append(all, entry{netip.MustParsePrefix("0.0.0.0/0"), "internet"}, entry{netip.MustParsePrefix("::/0"), "internet"})
	}
	long := -1
	for _, e := range all {
		if e.to.Contains(a) && e.to.Bits() > long {
			out, long = nil, e.to.Bits()
		}
		if e.to.Contains(a) && e.to.Bits() == long {
			out = append(out, e.way)
		}
	}
	return out
}

// comes tells whether a packet that says it is from an address may come by the outside link, or by an inside one.
func (n naive) comes(a netip.Addr, outside bool) bool {
	return slices.ContainsFunc(n.ways(a), func(way string) bool { return (way == "internet") == outside })
}

// leases tells whether a pool gives out the address.
func (n naive) leases(p plan.Pool, a netip.Addr) bool {
	if !n.poolSpace(p, a) {
		return false
	}
	return between(p.Ranges, a) || slices.ContainsFunc(p.Prefixes, func(x netip.Prefix) bool {
		if !x.Contains(a) {
			return false
		}
		if a.Is4() {
			return x.Bits() > 30 || a != x.Masked().Addr() && a != lastOf(x)
		}
		return x.Bits() > 126 || a != x.Masked().Addr()
	})
}

// owner finds the router or gateway with the address.
func (n naive) owner(a netip.Addr) (router *plan.Router, gateway bool) {
	for _, g := range n.p.Gateways {
		for _, at := range g.Inside {
			if slices.Contains(at.Addresses, a) {
				return nil, true
			}
		}
	}
	for i := range n.p.Routers {
		if slices.Contains(n.p.Routers[i].Addresses, a) {
			return &n.p.Routers[i], false
		}
	}
	return nil, false
}

// look is a router's longest match, attached networks first at equal length.
func (n naive) look(r *plan.Router, a netip.Addr) (link *plan.Network, via netip.Addr) {
	long := -1
	var links []*plan.Network
	for _, own := range r.Addresses {
		if net := n.home(own); net != nil {
			links = append(links, net)
		}
	}
	for _, net := range links {
		for _, p := range net.Prefixes {
			if p.Contains(a) && p.Bits() > long {
				link, long = net, p.Bits()
			}
		}
	}
	for _, route := range r.Routes {
		onLink := slices.ContainsFunc(links, func(net *plan.Network) bool {
			return slices.ContainsFunc(net.Prefixes, func(p netip.Prefix) bool { return p.Contains(route.Via) })
		})
		if onLink && route.To.Contains(a) && route.To.Bits() > long {
			link, via, long = nil, route.Via, route.To.Bits()
		}
	}
	return link, via
}

func (n naive) onward(k probePacket, out string, hop netip.Addr) bool {
	if out == "internet" {
		return n.internet(k.dst)
	}
	home := n.home(k.dst)
	if !hop.IsValid() {
		return home != nil && home.Name == out
	}
	seen := map[string]bool{}
	for {
		r, _ := n.owner(hop)
		if r == nil || seen[r.Name] {
			return false
		}
		seen[r.Name] = true
		link, via := n.look(r, k.dst)
		if link != nil {
			return home == link
		}
		if !via.IsValid() {
			return false
		}
		hop = via
	}
}

// wayBack tells whether an answer from where a packet went to comes to the gateway, by a link that leads there.
func (n naive) wayBack(k probePacket, to netip.Addr) bool {
	by, ok := n.cameBy(k, to)
	return ok && slices.Contains(n.ways(k.dst), by)
}

// cameBy follows an answer, and gives the network by which it comes to the gateway.
func (n naive) cameBy(k probePacket, to netip.Addr) (by string, ok bool) {
	home := n.home(k.dst)
	if home == nil {
		return "internet", slices.Contains(n.g.Outside.Addresses, to)
	}
	onLink := func(net *plan.Network) bool {
		here := slices.ContainsFunc(n.g.Inside, func(at plan.Attachment) bool { return at.Network == net.Name })
		carved := slices.ContainsFunc(n.p.Pools, func(p plan.Pool) bool { return p.CarvedFrom == net.Name && n.poolSpace(p, to) })
		return here && (n.own(to) || carved)
	}
	if slices.ContainsFunc(home.Prefixes, func(p netip.Prefix) bool { return p.Contains(to) }) {
		return home.Name, onLink(home)
	}
	name := home.Router
	by = home.Name
	seen := map[string]bool{}
	for {
		if name == n.g.Name {
			return by, true
		}
		if seen[name] {
			return "", false
		}
		seen[name] = true
		i := slices.IndexFunc(n.p.Routers, func(r plan.Router) bool { return r.Name == name })
		if i < 0 {
			return "", false
		}
		link, via := n.look(&n.p.Routers[i], to)
		if link != nil {
			return link.Name, onLink(link)
		}
		if by = ""; n.home(via) != nil {
			by = n.home(via).Name
		}
		r, gateway := n.owner(via)
		switch {
		case gateway:
			return by, true
		case r == nil:
			return "", false
		}
		name = r.Name
	}
}

// tooLarge tells whether a link that carries so many octets carries the packet neither whole nor in parts.
func (k probePacket) tooLarge(mtu int) bool {
	return k.size > mtu && !k.fragment && (k.keep || k.dst.Is6())
}

// own tells whether a packet asks the gateway for what it answers by itself.
func (k probePacket) own(leased []netip.Addr) bool {
	mine, six := slices.Contains(leased, k.src), slices.ContainsFunc(leased, netip.Addr.Is6)
	switch k.dst.String() {
	case "255.255.255.255":
		return k.proto == 17 && k.port == 67 && mine
	case "ff02::2":
		return k.proto == 58 && k.kind == 133 && six && (mine || inPrefix("fe80::/10", k.src) || k.src == netip.IPv6Unspecified())
	}
	return false
}

// judge follows a packet through the stations in the page's order.
func (n naive) judge(groups []string, leased []netip.Addr, k probePacket, at moment) ruling {
	var v ruling
	lose := func(station string, gateway bool) {
		if v.lostAt == "" {
			v.lostAt = station
		}
		if gateway && v.carried == "" {
			v.carried = station
		}
	}
	v.full, v.enforced = true, true
	p := n.passage(groups)
	if p == nil {
		return ruling{lostAt: "admission", carried: "admission"}
	}
	if k.own(leased) || n.page(k.dst) && slices.Contains(leased, k.src) {
		v := ruling{lostAt: "own-services", carried: "own-services"}
		if k.fragment && n.page(k.dst) && !n.routed(p, k.dst) { // parts get that far first
			v.carried = "selectors"
		}
		return v
	}
	routed := n.routed(p, k.dst)
	family := slices.ContainsFunc(n.p.Pools, func(pool plan.Pool) bool {
		return pool.Name == p.Pool && slices.ContainsFunc(leased, func(a netip.Addr) bool { return a.Is4() == k.dst.Is4() })
	})
	if !routed || !family || n.staysHome(p, k.dst) {
		v.full = false
		lose("device", false)
	}
	if !slices.Contains(leased, k.src) {
		v.full, v.enforced = false, false
		lose("source", true)
	}
	if !routed {
		lose("selectors", true)
	}
	if !n.rules(groups, k, at) {
		v.full, v.enforced = false, false
		lose("rules", true)
	}
	if v.carried == "source" || v.lostAt == "rules" || v.carried == "rules" || !v.enforced {
		return v
	}
	var ok bool
	if v.self, v.out, v.hop, ok = n.route(k); !ok {
		v.full, v.enforced = false, false
		lose("route", true)
		return v
	}
	if v.self {
		v.src = k.src
		return v
	}
	if v.src, ok = n.translate(k, v.out); !ok {
		v.full, v.enforced = false, false
		lose("translation", true)
		return v
	}
	if k.hops <= 1 && v.carried == "" {
		v.carried = "route"
	} else if k.tooLarge(1500) && v.carried == "" {
		v.carried = "size"
	}
	if !n.onward(k, v.out, v.hop) {
		v.full = false
		lose("onward", false)
	} else if !n.wayBack(k, v.src) {
		v.full = false
		lose("return", false)
	}
	return v
}

// held is where a packet of a session ends that is held, and whether it is answered there.
func (n naive) held(groups []string, leased []netip.Addr, k probePacket) string {
	p := n.passage(groups)
	mine := slices.Contains(leased, k.src)
	name := k.proto == 17 && k.port == 53 && slices.Contains(p.DNS.Servers, k.dst)
	switch {
	case !k.fragment && (k.own(leased) || mine && (n.page(k.dst) || name)):
		return "own-services"
	case !mine:
		return "source"
	}
	return "held"
}

// routed tells whether an address is among a passage's routes.
func (n naive) routed(p *plan.Passage, a netip.Addr) bool {
	return p.Routes.Full || p.Factor.Asked && n.page(a) || n.anyMeans(p.Routes.Split, a)
}

// staysHome tries every address of the home networks that hold the destination: is each of them routed?
func (n naive) staysHome(p *plan.Passage, a netip.Addr) bool {
	return slices.ContainsFunc(p.HomeNetworks, func(home netip.Prefix) bool {
		if !home.Contains(a) {
			return false
		}
		for x := home.Masked().Addr(); home.Contains(x); x = x.Next() {
			if !n.routed(p, x) {
				return false
			}
		}
		return true
	})
}

// inward follows a packet from inside towards a leased address; outside tells by which link it comes when it is forwarded.
func (n naive) inward(groups []string, leased []netip.Addr, k probePacket, at moment, outside bool) ruling {
	v := ruling{full: true, enforced: true}
	lose := func(station string, gateway, counted bool) {
		v.full = false
		v.enforced = v.enforced && !counted
		if v.lostAt == "" {
			v.lostAt = station
		}
		if gateway && v.carried == "" {
			v.carried = station
		}
	}
	p := n.passage(groups)
	if p == nil {
		return ruling{lostAt: "admission", carried: "admission"}
	}
	// The way from its network to the leased address is the way of an answer from there.
	if n.home(k.src) == nil || !n.wayBack(probePacket{dst: k.src}, k.dst) {
		lose("approach", false, false)
	}
	back := probePacket{src: k.dst, dst: k.src, proto: k.proto}
	_, out, hop, ok := n.route(back)
	if n.own(k.src) || !ok {
		lose("origin", true, true)
		return v
	}
	if !n.comes(k.src, outside) {
		v.carried = "origin"
	}
	as, ok := n.translate(k, "")
	if !ok {
		lose("translation", true, true)
		return v
	}
	if !slices.Contains(leased, k.dst) {
		if lose("state", true, true); v.carried == "state" {
			return v
		}
	}
	v.src = as
	seen := k
	if seen.src = as; n.own(as) || !n.ruled(groups, seen, at, true) {
		lose("rules", true, true)
		return v
	}
	if !n.routed(p, as) {
		lose("selectors", true, false)
	}
	if !n.routed(p, as) || n.staysHome(p, as) {
		lose("device", false, false)
	}
	if k.tooLarge(1400) && v.carried == "" {
		v.carried = "size"
	}
	if v.full && !n.onward(back, out, hop) {
		lose("onward", false, false)
	}
	v.out, v.hop = out, hop
	return v
}
