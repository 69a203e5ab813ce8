// Package begin writes a first plan from the few things that cannot be guessed, and proposes everything else, each choice
// with its reason. What it writes is an ordinary document, to be read, checked and changed like any other.
package begin

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Answers are the things that cannot be guessed.
type Answers struct {
	Site     string       `json:"site" doc:"What the site is called."`
	Dial     string       `json:"dial" doc:"The public name or address that people dial."`
	Outside  []netip.Addr `json:"outside" nullable:"false" minItems:"1" doc:"The gateway's public addresses; where a router is in front, the gateway's own towards it."`
	InFront  netip.Addr   `json:"in-front,omitzero" doc:"The public address of a router in front, which forwards to the gateway; none if the gateway has it itself."`
	Networks []Network    `json:"networks" nullable:"false" minItems:"1" doc:"The inside networks; the gateway is attached to the first."`
	Groups   []Group      `json:"groups" nullable:"false" minItems:"1" doc:"Who comes in, and what they may reach."`
	DNS      []netip.Addr `json:"dns,omitempty" nullable:"false" doc:"Inside name servers."`
	Search   string       `json:"search,omitempty" doc:"The inside domain."`
	Full     bool         `json:"full,omitempty" doc:"All traffic of people's devices goes through the tunnel, the internet's too."`
	Devices  []string     `json:"devices,omitempty" nullable:"false" enum:"windows,apple,android,own-client" doc:"What people connect with: the tunnel is made such that each can use it."`
	Factor   bool         `json:"second-factor,omitempty" doc:"People give a second factor too: a code of an app, on a page that the gateway serves through the tunnel."`
	People   int          `json:"people,omitempty" minimum:"0" maximum:"60000" doc:"How many people there may be; 200 if not given."`
}

// Network is an inside network.
type Network struct {
	Name    string       `json:"name"`
	Prefix  netip.Prefix `json:"prefix"`
	Gateway netip.Addr   `json:"gateway,omitzero" doc:"The gateway's address there (first network), or the router that leads there (others); the first host address, or a router on the first network, if not given."`
}

// Group is who comes in.
type Group struct {
	Name     string   `json:"name"`
	Reach    []string `json:"reach" nullable:"false" minItems:"1" doc:"Names of networks, prefixes or addresses."`
	Services []string `json:"services" nullable:"false" minItems:"1" doc:"Such as tcp/443, ping."`
}

// Reason says why something was chosen.
type Reason struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Proposal is a first plan.
type Proposal struct {
	Text    string   `json:"text"`
	Reasons []Reason `json:"reasons" nullable:"false"`
}

// typicalHomes are what home routers come with; a pool there, or a pool inside, would collide.
var typicalHomes = netset.OfPrefixes(netip.MustParsePrefix("192.168.0.0/16"), netip.MustParsePrefix("10.0.0.0/22"),
	netip.MustParsePrefix("172.16.0.0/16"))

type writer struct {
	strings.Builder
	reasons []Reason
}

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

func (w *writer) because(path, format string, args ...any) {
	w.reasons = append(w.reasons, Reason{path, fmt.Sprintf(format, args...)})
}

// Plan writes the proposal.
func Plan(a Answers) (*Proposal, error) {
	if err := a.check(); err != nil {
		return nil, err
	}
	pool, err := a.pool()
	if err != nil {
		return nil, err
	}
	if a.Factor && !a.codeAddress(pool).IsValid() {
		return nil, errors.New("no free address was found for the page of codes: the inside networks fill all private space; make a plan by hand")
	}
	var w writer
	w.line("# %s: begun from a few answers. Everything here may be changed.", a.Site)
	w.line("format: 1\nname: %s\n", strconv.Quote(a.Site))
	a.gateway(&w, pool)
	a.networks(&w)
	a.people(&w, pool)
	a.rules(&w)
	if _, err := plan.Read(w.String()); err != nil {
		return nil, err
	}
	return &Proposal{w.String(), w.reasons}, nil
}

func (a Answers) check() error {
	switch {
	case strings.TrimSpace(a.Site) == "" || strings.TrimSpace(a.Dial) == "":
		return errors.New("say what the site is called and what people dial")
	case a.Factor && a.codePage() == "":
		return errors.New("say the inside domain: people find the page for their second factor by a name in it")
	case len(a.Outside) == 0 || len(a.Networks) == 0 || len(a.Groups) == 0:
		return errors.New("say the gateway's public address, one inside network, and one group")
	}
	if public := a.Outside[0]; !a.InFront.IsValid() && plan.Private.Contains(public) {
		return fmt.Errorf("%s is no public address: nobody in the world can dial it; if a router is in front, say so and give its public address", public)
	}
	for _, n := range a.Networks {
		if n.Prefix != n.Prefix.Masked() {
			return fmt.Errorf("network %s: %s has host bits set; say %s", n.Name, n.Prefix, n.Prefix.Masked())
		}
	}
	return nil
}

// pool is the first prefix of an uncommon stretch that is large enough and collides with nothing.
func (a Answers) pool() (netip.Prefix, error) {
	taken := typicalHomes
	for _, n := range a.Networks {
		taken = taken.Union(netset.OfPrefixes(n.Prefix))
	}
	people := a.People
	if people == 0 {
		people = 200
	}
	bits := 28
	for 1<<(32-bits)-2 < 2*people && bits > 15 { // twice as many: people have more than one device
		bits--
	}
	for _, from := range []string{"10.99.0.0", "10.96.0.0", "172.24.0.0", "100.80.0.0"} {
		at := netip.MustParseAddr(from)
		for range 64 {
			p := netip.PrefixFrom(at, bits).Masked()
			if !netset.OfPrefixes(p).Overlaps(taken) {
				return p, nil
			}
			at = netset.Last(p).Next()
		}
	}
	return netip.Prefix{}, errors.New("no free range was found for people's addresses: the inside networks fill all private space; make a plan by hand")
}

func text(v any) string {
	s := fmt.Sprint(v)
	if strings.ContainsAny(s, ":#{}[],&*!|>'\"%@` ") {
		return strconv.Quote(s)
	}
	return s
}

func list[T any](items []T) string {
	out := make([]string, len(items))
	for i, x := range items {
		out[i] = text(x)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// codePage is a name for the page of codes; empty: no domain is known.
func (a Answers) codePage() string {
	if a.Search != "" {
		return "code." + a.Search
	}
	if _, err := netip.ParseAddr(a.Dial); err == nil {
		return ""
	}
	_, domain, ok := strings.Cut(a.Dial, ".")
	if !ok {
		return ""
	}
	return "code." + domain
}

// codeAddress is a private address that nothing has that was told of.
func (a Answers) codeAddress(pool netip.Prefix) netip.Addr {
	taken := typicalHomes.Union(netset.OfPrefixes(pool))
	for _, n := range a.Networks {
		taken = taken.Union(netset.OfPrefixes(n.Prefix))
	}
	for _, word := range []string{"10.98.255.1", "10.95.255.1", "172.23.255.1", "172.31.255.1", "192.168.255.1"} {
		if at := netip.MustParseAddr(word); !taken.Contains(at) {
			return at
		}
	}
	return netip.Addr{}
}

func (a Answers) gateway(w *writer, pool netip.Prefix) {
	first := a.Networks[0]
	own := first.Gateway
	if !own.IsValid() {
		own = first.Prefix.Addr().Next()
		w.because("gateways/gateway/inside/0/addresses", "the first address of %s, which routers usually have: correct it if yours differs", first.Prefix)
	}
	w.line("gateways:\n  - name: gateway\n    dial: %s", text(a.Dial))
	if a.InFront.IsValid() {
		w.line("    outside:\n      addresses: %s\n      in-front:\n        address: %s\n        forwards:", list(a.Outside), text(a.InFront))
		for _, service := range []string{"udp/500", "udp/4500"} {
			w.line("          - {service: %s, to: %s}", service, text(a.Outside[0]))
		}
		w.because("gateways/gateway/outside/in-front/forwards", "the router in front must forward both ports to %s: set that there", a.Outside[0])
	} else {
		w.line("    outside: {addresses: %s}", list(a.Outside))
	}
	if a.Factor {
		w.line("    code-page: {name: %s, addresses: [%s]}", a.codePage(), a.codeAddress(pool))
		w.because("gateways/gateway/code-page", "where people give their second factor, through the tunnel: the gateway answers that name itself, and the address is one that nothing else here has")
	}
	w.line("    machine: {settings: set, drift: mend}")
	w.because("gateways/gateway/machine", "the gateway switches forwarding on for people alone, puts right what is changed by hand, and sets all of it back when it stops; say tell in place of set and mend to do it yourself")
	w.line("    inside:\n      - {network: %s, addresses: [%s]}", first.Name, text(own))
	var routes []string
	for i, n := range a.Networks[1:] {
		if n.Gateway.IsValid() {
			routes = append(routes, fmt.Sprintf("      - {to: %s, via: %s}", text(n.Prefix), text(n.Gateway)))
			w.because(fmt.Sprintf("gateways/gateway/routes/%d", i), "%s lies behind the router %s", n.Name, n.Gateway)
		}
	}
	if len(routes) > 0 {
		w.line("    routes:\n%s", strings.Join(routes, "\n"))
	}
	if a.Full {
		w.line("    internet: true")
	}
	w.line("")
}

func (a Answers) networks(w *writer) {
	w.line("networks:")
	routers := map[netip.Addr]string{}
	addresses := map[string][]netip.Addr{}
	var order []string
	for i, n := range a.Networks {
		router := "gateway"
		if i > 0 && n.Gateway.IsValid() {
			router = routers[n.Gateway]
			if router == "" {
				router = fmt.Sprintf("router-%d", len(routers)+1)
				routers[n.Gateway] = router
				order = append(order, router)
				addresses[router] = []netip.Addr{n.Gateway}
			}
			addresses[router] = append(addresses[router], n.Prefix.Addr().Next())
		}
		w.line("  - {name: %s, prefixes: [%s], router: %s}", n.Name, text(n.Prefix), router)
	}
	w.line("")
	if len(order) > 0 {
		own := a.Networks[0].Gateway
		if !own.IsValid() {
			own = a.Networks[0].Prefix.Addr().Next()
		}
		w.line("routers:")
		for _, name := range order {
			w.line("  - name: %s\n    addresses: %s\n    routes:\n      - {to: 0.0.0.0/0, via: %s}", name, list(addresses[name]), text(own))
			w.because("routers/"+name+"/routes", "answers to people must come back to the gateway: make sure that this router's default route, or a route to the pool, really leads there")
		}
		w.line("")
	}
	if len(a.DNS) > 0 {
		w.line("hosts:")
		for i, s := range a.DNS {
			w.line("  - {name: names-%d, addresses: [%s]}", i+1, text(s))
		}
		w.line("")
	}
}

func (a Answers) people(w *writer, pool netip.Prefix) {
	w.line("services:\n  - {name: names, ports: [udp/53, tcp/53]}\n")
	w.line("groups:")
	for _, g := range a.Groups {
		w.line("  - {name: %s}", g.Name)
	}
	w.line("\npools:\n  - {name: people, prefixes: [%s]}\n", pool)
	w.because("pools/people/prefixes", "%s overlaps no network of yours and none that home routers usually come with, and has room for two devices of each person", pool)
	level := algorithm.Strict
	if slices.ContainsFunc(a.Devices, func(d string) bool { return d != "own-client" }) { // which offer no more without being set up
		level = algorithm.Broad
	}
	mtu := ""
	if level == algorithm.Broad {
		mtu = "\n    mtu: 1390"
		w.because("tunnels/main/mtu", "AES-CBC with its integrity adds up to 110 octets on the way, and most links carry 1500")
	}
	w.line("tunnels:\n  - name: main\n    kind: ikev2\n    gateway: gateway\n    login: eap-mschapv2%s\n    algorithms: {level: %s}\n    certificate: gate\n",
		mtu, level)
	w.because("tunnels/main/kind", "every current system's own client has IKEv2, with user and password")
	devices := ""
	if len(a.Devices) > 0 {
		devices = "\n    platforms: " + list(a.Devices)
		w.because("tunnels/main/algorithms", "each of %s can agree with some of them, which is checked from now on; some must be set to it, for they do not offer it by themselves", strings.Join(a.Devices, ", "))
	}
	factor := `{waived: "not asked for when the plan was begun"}`
	if a.Factor {
		factor = "{asked: true}"
		w.because("passages/"+a.Groups[0].Name+"/second-factor", "each person needs a second factor before they reach anything: yl users second-factor link NAME, or the page of their kit")
	} else {
		w.because("passages/"+a.Groups[0].Name+"/second-factor", "nobody is asked for a second factor, as you said: write there why, or ask for one")
	}
	w.line("passages:")
	for _, g := range a.Groups {
		routes := "{full: true}"
		if !a.Full {
			split := append([]string{}, g.Reach...)
			for i, s := range a.DNS {
				if !a.reaches(g, s) {
					split = append(split, fmt.Sprintf("names-%d", i+1))
				}
			}
			routes = "{split: " + list(split) + "}"
		}
		dns := ""
		if len(a.DNS) > 0 {
			dns = "\n    dns: {servers: " + list(a.DNS)
			if a.Search != "" {
				dns += ", search: [" + text(a.Search) + "]"
			}
			dns += "}"
		}
		w.line("  - name: %s\n    groups: [%s]\n    tunnels: [main]\n    pool: people%s\n    routes: %s%s\n    second-factor: %s", g.Name, g.Name, dns, routes, devices, factor)
	}
	w.line("")
	if a.Full {
		w.because("passages", "full tunnel, as you asked: people's internet traffic comes through here, seen and limited by your line")
	} else {
		w.because("passages", "split tunnel: only what a group may reach goes through; everything else stays on people's own lines, unseen from here")
	}
}

// reaches tells whether what the group may reach holds the address.
func (a Answers) reaches(g Group, s netip.Addr) bool {
	for _, word := range g.Reach {
		for _, n := range a.Networks {
			if n.Name == word && n.Prefix.Contains(s) {
				return true
			}
		}
		if p, err := netip.ParsePrefix(word); err == nil && p.Contains(s) {
			return true
		}
	}
	return false
}

func (a Answers) rules(w *writer) {
	var names []string
	for _, n := range a.Networks {
		names = append(names, n.Name)
	}
	both := list(append([]string{"people"}, names...))
	w.line("nat:\n  - {name: keep-inside, gateway: gateway, action: exempt, from: %s, to: %s}", both, both)
	w.because("nat/keep-inside", "inside hosts see people's own addresses, so that logs there tell who it was; and people's devices see theirs, whatever else translates on this machine")
	if a.Full {
		w.line("  - {name: way-out, gateway: gateway, action: translate, from: [people], to: [internet], out: internet}")
		w.because("nat/way-out", "the internet knows no way back to the pool, so what leaves for it gets the gateway's address")
	}
	w.line("\nrules:")
	if len(a.DNS) > 0 {
		var servers []string
		for i := range a.DNS {
			servers = append(servers, fmt.Sprintf("names-%d", i+1))
		}
		w.line("  - {name: names, action: permit, to: %s, services: [names]}", list(servers))
		w.because("rules/names", "without it nobody could use a name")
	}
	for _, g := range a.Groups {
		w.line("  - {name: %s, action: permit, groups: [%s], to: %s, services: %s}", g.Name, g.Name, list(g.Reach), list(g.Services))
		if a.Full {
			w.line("  - {name: %s-out, action: permit, groups: [%s], to: [internet], services: [tcp/80, tcp/443, udp/443, ping]}", g.Name, g.Name)
		}
	}
	w.line("\nexpectations:")
	if len(a.DNS) > 0 {
		w.line("  - {name: names, everyone: true, must: reach, to: [names-1], services: [names]}")
	}
	for _, g := range a.Groups {
		w.line("  - {name: %s-reach, groups: [%s], must: reach, to: %s, services: %s}", g.Name, g.Name, list(g.Reach), list(g.Services))
		if a.Full {
			w.line("  - {name: %s-out, groups: [%s], must: reach, to: [internet], services: [tcp/80, tcp/443, udp/443, ping]}", g.Name, g.Name)
		}
		w.line("  - {name: %s-nothing-else, groups: [%s], must: nothing-else}", g.Name, g.Name)
	}
	w.because("expectations", "what you said people must reach, and nothing else: they are proved at every change and can be tried")
}
