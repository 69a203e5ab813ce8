package diagnose

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// admitted tells whether there is anything to follow: a person whom nobody admits reaches nothing, and that was said.
func (f *finder) admitted() bool {
	return f.Known && !f.Off && f.Class != nil && f.Class.Passage != nil
}

// reachesSome looks at one destination: first at what is computed, then at what trials and live counters saw.
func (f *finder) reachesSome() {
	if !f.admitted() {
		return
	}
	f.connected()
	if f.Packet == nil {
		f.reachesNothing()
		return
	}
	f.follow(*f.Packet, f.Name, 92)
	f.lostAtGateway()
}

// reachesNothing looks at everything that the person must reach.
func (f *finder) reachesNothing() {
	if !f.admitted() {
		return
	}
	f.connected()
	r := reach.NewComputer(f.Model).Of(f.Class)
	if len(reach.Everywhere(r.Enforced)) == 0 {
		f.add(Cause{
			Code: "no-rule-at-all", Sure: 96, Words: "no rule permits anything to " + f.Class.Name(), Setting: "rules",
			Fix: "add rules that permit the group what it is meant to use",
		}, "computed: nothing is let through")
		return
	}
	if len(reach.Always(r.Full)) == 0 {
		f.add(Cause{
			Code: "no-answer-at-all", Sure: 80,
			Words: "what is let through does not get an answer: devices send it past the tunnel, or nothing leads back", Setting: f.settingOf("PASSAGE/routes"), Fix: "compare routes with rules (yl plan check), and the way back of the inside networks",
		}, "computed: full reach is empty")
	}
	f.lostAtGateway()
	f.names()
	for _, t := range f.Trials {
		for _, x := range t.Results {
			if x.Want && !(x.Reached && x.Served) && t.Connected {
				f.tried(t, x)
			}
		}
	}
}

// connected says so where a complaint about reach comes from somebody who is not connected.
func (f *finder) connected() {
	f.unusable()
	if len(f.Sessions) > 0 {
		return
	}
	c := Cause{
		Code: "not-connected", Sure: 30, Words: f.User + " is not connected now",
		Fix: "let them connect and try again; if they cannot, that is the complaint to ask about",
	}
	if len(f.Past) == 0 && !slices.ContainsFunc(f.Journal, func(l Line) bool { return l.Kind == "login" }) {
		c.Sure = 55
	}
	f.add(c, "the list of live sessions")
}

// follow sends a packet through the stations and says where it is lost; if it is not, what trials saw of it.
func (f *finder) follow(p site.Packet, name string, sure int) {
	leased := netset.Addrs{}
	if p.Src.IsValid() {
		leased = netset.OfAddrs(p.Src)
	}
	j := f.Model.Travel(f.Class, p, leased, site.At(f.Now))
	if lost := j.LostAt(); lost != nil {
		c := Cause{
			Code: codeOf(lost), Sure: sure, Words: lost.Words, Setting: lost.Setting,
			Fix: reach.Fix(f.Model, f.Class, p, lost.Station, lost.Setting, true, false),
		}
		var evidence []string
		for _, step := range j.Steps {
			if step.OK || step.Station == site.Selectors { // the selectors are the routes once more
				continue
			}
			evidence = append(evidence, fmt.Sprintf("computed: %s to %s is lost at station %s: %s", p.Service, f.Model.Place(p.Dst),
				step.Station, step.Words))
			if step.Station != lost.Station {
				c.Fix += "; and " + reach.Fix(f.Model, f.Class, p, step.Station, step.Setting, true, false)
			}
		}
		if e := reach.ForbiddenBy(f.Model, reach.Class{Class: f.Class, Users: []string{f.User}}, p, false); e != nil {
			f.add(Cause{
				Code: "not-meant", Sure: 97, Words: fmt.Sprintf("they are not meant to reach it: expectation %s says so", e.Name), Setting: "expectations/" + e.Name,
				Fix: "nothing is wrong: tell them; if they should reach it after all, change the expectation first",
			}, "the plan: what is expected of "+f.Class.Name())
			f.add(c, evidence...)
			return
		}
		c.Mend = reach.MendAll(f.Model, f.Class, p, j, false)
		f.otherPassage(p)
		f.add(c, evidence...)
		return
	}
	f.beyond(p, name)
}

// otherPassage finds a later passage that lists one of the person's groups and by which a packet would arrive: the first passage that lists
// one counts.
func (f *finder) otherPassage(p site.Packet) {
	first := f.Class.Passage
	for i := range f.Model.Plan.Passages {
		x := &f.Model.Plan.Passages[i]
		shared := slices.ContainsFunc(x.Groups, func(g string) bool { return slices.Contains(f.Class.Groups, g) })
		if x.Name == first.Name || !shared {
			continue
		}
		only := *f.Model.Plan
		only.Passages = []plan.Passage{*x}
		m, err := site.Compile(&only, f.Model.Gateway.Name)
		if err != nil {
			continue
		}
		c := m.Class(f.Class.Groups)
		if c.Passage == nil {
			continue
		}
		sent, leased := site.Packet{Dst: p.Dst, Service: p.Service}, netset.Addrs{}
		for _, span := range c.Passage.Pool {
			if span.From.Is4() == p.Dst.Is4() {
				sent.Src, leased = span.From, netset.OfAddrs(span.From)
				break
			}
		}
		if !m.Travel(c, sent, leased, site.At(f.Now)).Arrives {
			continue
		}
		f.add(Cause{
			Code: "other-passage", Sure: 95,
			Words:   fmt.Sprintf("%s uses passage %s, which stands before passage %s in the plan; by %[3]s it would be reached", f.User, first.Name, x.Name),
			Setting: "passages/" + first.Name + "/groups",
			Fix:     fmt.Sprintf("move passage %s before %s, or take the group they share out of %[2]s", x.Name, first.Name),
		}, "the plan: both passages list a group of "+f.Class.Name()+"; the first one counts")
	}
}

// atOnce is how soon a device ends a session whose settings it cannot use.
const atOnce = 10 * time.Second

// unusable finds sessions that the device itself ended as soon as they stood, without a packet.
func (f *finder) unusable() {
	if len(f.Past) == 0 || f.Class == nil || f.Class.Passage == nil || len(f.Sessions) > 0 {
		return
	}
	p := f.Past[0]
	if p.Why.Code != reason.PeerEnded || p.In > 0 || p.Until.Sub(p.Since) > atOnce || f.Now.Sub(p.Until) > time.Hour {
		return
	}
	pool := f.Class.Passage.Passage.Pool
	home := homeSpace.Overlaps(netset.OfSpans(f.Class.Passage.Pool...))
	f.add(Cause{
		Code: "unusable-at-device", Sure: map[bool]int{true: 91, false: 66}[home],
		Words:   "their device ends the session as soon as it stands: it cannot use what it is assigned, most often because its own network has the addresses of pool " + pool,
		Setting: f.settingOf("POOL/prefixes"),
		Fix:     "ask which addresses their network has (yl dial says so), and give the pool a prefix that home routers do not use",
	}, fmt.Sprintf("a session ended %s ago, %s after it began, and no packet came", f.Now.Sub(p.Until).Round(time.Second),
		p.Until.Sub(p.Since).Round(time.Second)))
}

// homeSpace is what routers at home mostly give out (RFC 1918).
var homeSpace = netset.OfPrefixes(netip.MustParsePrefix("192.168.0.0/16"), netip.MustParsePrefix("10.0.0.0/23"))

// codeOf names the cause by the station and the setting at which a packet is lost.
func codeOf(s *site.Step) string {
	switch s.Station {
	case site.Device, site.Selectors:
		switch {
		case strings.HasSuffix(s.Setting, "/home-networks"):
			return "home-network"
		case strings.HasPrefix(s.Setting, "pools/"):
			return "no-address-of-family"
		}
		return "not-routed"
	case site.Rules:
		switch {
		case strings.HasSuffix(s.Setting, "/hours"):
			return "outside-rule-hours"
		case s.Setting != "rules":
			return "refused-by-rule"
		}
		return "no-rule"
	case site.Routing:
		if s.Setting == "pools" {
			return "address-of-a-pool"
		}
		return "gateway-has-no-route"
	case site.Translating:
		return "translation-has-no-address"
	case site.Onward:
		return "routers-lead-elsewhere"
	case site.Return:
		if s.Setting == "nat" {
			return "not-translated-on-the-way-out"
		}
		return "no-way-back"
	}
	return "lost-at-" + s.Station
}

// beyond is for what the plan lets through: then the site is not as the plan says, or it is the person's own place.
func (f *finder) beyond(p site.Packet, name string) {
	fine := false
	for _, t := range f.Trials {
		if !t.Connected {
			continue
		}
		for _, x := range t.Results {
			if x.Dst != p.Dst || !x.Want || x.Service != p.Service.String() && !f.sameHost(t, x) {
				continue
			}
			if x.Reached && x.Served && x.Service == p.Service.String() && (x.Name != "" || name == "" || !strings.Contains(name, ".")) {
				fine = true
				continue
			}
			f.tried(t, x)
		}
	}
	for _, fl := range f.Flows {
		if fl.Sent > 2 && fl.Got == 0 {
			f.add(Cause{
				Code: "no-answer-from-inside", Sure: 72,
				Words: "their packets leave the gateway for " + fl.Dst + ", and nothing comes back", Setting: "networks", Fix: "look at the host, and at the way back from its network to the pool",
			}, "a live flow: "+fmt.Sprintf("%d packets sent, none back", fl.Sent))
		}
	}
	if fine && !slices.ContainsFunc(f.causes, func(c Cause) bool { return c.Sure >= 58 }) {
		f.add(Cause{Code: "only-this-device", Sure: 58, Words: "an identity with the same groups reaches it: it is this device, or the place where it is", Fix: "compare the device's routes and name servers with what it was given; a home network with the same addresses would hide it (say so under home-networks)"}, "a trial just reached it")
	}
}

// sameHost tells whether a result says something of the same host, where its own service was not tried.
func (f *finder) sameHost(t Trial, x Result) bool {
	return !slices.ContainsFunc(t.Results, func(o Result) bool {
		return f.Packet != nil && o.Dst == f.Packet.Dst && o.Service == f.Packet.Service.String()
	}) && !x.Reached
}

// tried says what a trial's failure tells: the plan lets it through, and yet nothing served.
func (f *finder) tried(t Trial, x Result) {
	at := fmt.Sprintf("a trial from %s, %s by %s: %s", t.Vantage, x.Place, x.Service, x.Saw.Words())
	host := "hosts/" + x.Place
	hostAlive, networkAlive, networkTried := false, false, 0
	for _, o := range t.Results {
		if !o.Want || o.Network != x.Network || o.Dst.Is4() != x.Dst.Is4() {
			continue
		}
		networkTried++
		networkAlive = networkAlive || o.Reached
		hostAlive = hostAlive || o.Reached && o.Dst == x.Dst
	}
	switch {
	case x.Home != "":
		f.add(Cause{
			Code: "home-network", Sure: 84, Words: fmt.Sprintf("where the home network is %s, devices look for %s at home", x.Home, cmp.Or(x.Network, x.Place)), Setting: f.settingOf("PASSAGE/routes"),
			Fix: "route single hosts or smaller prefixes in place of the whole network, or renumber",
		}, at)
	case x.Saw.Among(nameFailures...):
		f.name(x, at)
	case x.Reached && x.Saw.Among(reason.PortClosed):
		f.add(Cause{
			Code: "service-down", Sure: 91, Words: fmt.Sprintf("%s answers, but nothing listens on %s", x.Place, x.Service),
			Setting: host, Fix: "start the service on " + x.Place + ", or correct the port in the plan",
		}, at)
	case x.Reached && x.Saw.Among(reason.Hangs):
		f.add(Cause{
			Code: "hangs-after-connecting", Sure: 78,
			Words: x.Place + " accepts connections by " + x.Service + " and then says nothing: larger packets are lost, or the service hangs", Setting: host, Fix: "compare the largest packet that passes (yl probe shows it); look at the service on " + x.Place,
		}, at)
	case x.Reached: // something answered
		f.add(Cause{
			Code: "service-does-not-serve", Sure: 70, Words: x.Place + " answers by " + x.Service + ", but does not serve",
			Setting: host, Fix: "look at the service on " + x.Place,
		}, at)
	case x.Saw.Among(reason.RouterSaid):
		f.add(Cause{
			Code: "router-refuses", Sure: 88, Words: "a router or filter behind the gateway gives it up: " + x.Saw.Words(),
			Setting: "routers", Fix: "correct that router, or the filter on it",
		}, at)
	case hostAlive:
		f.add(Cause{
			Code: "host-filters", Sure: 86,
			Words: fmt.Sprintf("%s answers other services, and drops %s: a packet filter on the host", x.Place, x.Service), Setting: host, Fix: "let the filter on " + x.Place + " take " + x.Service + " from the pool",
		}, at)
	case networkAlive:
		f.add(Cause{
			Code: "host-down", Sure: 89, Words: fmt.Sprintf("%s is silent, while others on network %s answer: it is switched off, or its way back is wrong", x.Place, x.Network), Setting: host, Fix: "look at " + x.Place + ": is it on, and is its default router the one that the plan says?",
		}, at)
	case x.Network != "":
		f.add(Cause{
			Code: "network-silent", Sure: 87, Words: fmt.Sprintf("nothing on network %s answers: its router does not know the way back to the pool, or the way there is broken", x.Network), Setting: "networks/" + x.Network + "/router",
			Fix: fmt.Sprintf("give the router of %s a route to the pool that leads to this gateway, or translate the source", x.Network),
		}, at, fmt.Sprintf("%d trials on that network, none answered", networkTried))
	default:
		f.add(Cause{
			Code: "internet-silent", Sure: 75, Words: x.Place + " on the internet does not answer", Setting: "nat",
			Fix: "look at whether it is up, and at the gateway's own way to the internet",
		}, at)
	}
}

// lostAtGateway looks at the counters of live sessions.
func (f *finder) lostAtGateway() {
	for _, s := range f.Sessions {
		for station, n := range s.Lost {
			if n < 4 {
				continue
			}
			at := fmt.Sprintf("live counters: %d of %d packets lost at station %s", n, s.In, station)
			switch station {
			case site.Selectors:
				f.add(Cause{
					Code: "sends-what-is-not-routed", Sure: 50, Words: "the device sends what is not routed into its tunnel",
					Setting: f.settingOf("PASSAGE/routes"), Fix: "add what they need to the routes; otherwise nothing is wrong",
				}, at)
			case site.Source:
				f.add(Cause{Code: "sends-with-another-address", Sure: 83, Words: "the device sends with a source address that was not leased to it: it forwards for others, or its tunnel interface is set up wrongly", Setting: f.settingOf("POOL"), Fix: "let the device use the address that it is given; routers and virtual machines behind it must be translated there"}, at)
			case site.Rules:
				f.add(Cause{
					Code: "refused-by-rules", Sure: 45, Words: "rules refuse part of what the device sends", Setting: "rules",
					Fix: "name the destination, and the rule that decides is shown: --to HOST --service tcp/443",
				}, at)
			}
		}
	}
}
