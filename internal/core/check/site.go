package check

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// neededPorts is all that the router in front of a gateway must forward.
func (c *checker) neededPorts(gateway string) []netset.Point {
	var ports []netset.Point
	for _, t := range c.p.Tunnels {
		kind := plan.KindOf(t.Kind)
		if t.Gateway != gateway || t.Off || kind.Ports == nil {
			continue
		}
		for _, p := range kind.Ports(t) {
			if !slices.Contains(ports, p) {
				ports = append(ports, p)
			}
		}
	}
	return ports
}

// site finds what keeps callers from arriving at the gateway.
func (c *checker) site() {
	if len(c.p.Gateways) == 0 {
		c.add(Stop, "no-gateway", "gateways", "make a gateway", "the plan has no gateway: nobody can connect")
		return
	}
	outside := map[netip.Addr]string{}
	for i, g := range c.p.Gateways {
		base := "gateways/" + g.Name
		if i > 0 {
			c.add(Stop, "not-yet", base, "keep one gateway in the plan", "a service runs one gateway so far: %s would not run", g.Name)
		}
		c.outside(base, g)
		c.dial(base, g)
		c.changing(base, g)
		for _, a := range g.Outside.Addresses {
			if other, twice := outside[a]; twice {
				c.add(Stop, "same-outside", base+"/outside/addresses", "give each gateway its own",
					"gateways %s and %s both have %s outside: callers reach only one of them", other, g.Name, a)
			}
			outside[a] = g.Name
		}
		for k, r := range g.Routes {
			if r.To.Masked() != r.To {
				c.add(Stop, "host-bits", at(base+"/routes", k)+"/to", "write "+r.To.Masked().String(), "%s has host bits set", r.To)
				c.mend("set", at(base+"/routes", k)+"/to", quote(r.To.Masked()))
			}
			on := slices.ContainsFunc(g.Inside, func(a plan.Attachment) bool {
				n := c.n.Networks[a.Network]
				return n != nil && netset.OfPrefixes(n.Prefixes...).Contains(r.Via)
			})
			if !on {
				c.add(Stop, "next-hop-not-attached", at(base+"/routes", k)+"/via",
					"name a next hop on a network under inside, or attach the gateway to that network",
					"next hop %s is on no network that the gateway is attached to: the route to %s does not exist", r.Via, r.To)
			}
		}
		c.ownersOf(g)
		for k, a := range g.Inside {
			n := c.n.Networks[a.Network]
			for _, addr := range a.Addresses {
				if n != nil && !netset.OfPrefixes(n.Prefixes...).Contains(addr) {
					c.add(Stop, "address-off-network", at(base+"/inside", k)+"/addresses", "give the gateway an address of that network",
						"%s is not in network %s", addr, a.Network)
				}
			}
		}
	}
}

// ownersOf finds addresses that a router says it has and something before it has too: packets go to one of them, the gateway or else the
// first in the plan (docs/semantics.md, "Onward").
func (c *checker) ownersOf(g plan.Gateway) {
	const gateway = "the gateway"
	owners := map[netip.Addr]string{}
	for _, at := range g.Inside {
		for _, a := range at.Addresses {
			owners[a] = gateway
		}
	}
	for _, r := range c.p.Routers {
		for i, a := range r.Addresses {
			if slices.Contains(r.Addresses[:i], a) {
				path := at("routers/"+r.Name+"/addresses", i)
				c.add(Warn, "address-of-two", path, "take it out once", "router %s has %s twice", r.Name, a)
				c.mend("remove", path, "")
				continue
			}
			if first, taken := owners[a]; taken {
				severity := Warn // two routers may share one
				if first == gateway {
					severity = Stop
				}
				c.add(severity, "address-of-two", at("routers/"+r.Name+"/addresses", i), "give each of them an address of its own",
					"%s belongs to %s and to router %s: what is sent to it as a next hop arrives at one of them", a, first, r.Name)
				continue
			}
			owners[a] = "router " + r.Name
		}
	}
}

func (c *checker) outside(base string, g plan.Gateway) {
	front := g.Outside.InFront
	if len(g.Outside.Addresses) == 0 {
		c.add(Stop, "no-outside-address", base+"/outside/addresses", "give the gateway its outside address", "the gateway has no outside address: nobody can reach it")
		return
	}
	for i, a := range g.Outside.Addresses {
		if plan.Private.Contains(a) && front == nil {
			c.add(Stop, "outside-private", at(base+"/outside/addresses", i), "say under in-front which public address the router in front has and that it forwards udp/500 and udp/4500 to "+a.String(),
				"%s is a private address and no router in front is declared: nobody outside arrives", a)
		}
	}
	if front == nil {
		return
	}
	if plan.Private.Contains(front.Address) {
		c.add(Stop, "outside-private", base+"/outside/in-front/address", "give the public address", "%s, the address of the router in front, is private itself: nobody outside arrives", front.Address)
	}
	c.bareForwards(base, front)
	for k, p := range c.neededPorts(g.Name) {
		var to []netip.Addr
		for i, f := range front.Forwards {
			set, err := netset.ParseServices(f.Service)
			if err != nil {
				if k == 0 { // told once
					c.add(Stop, "malformed-service", at(base+"/outside/in-front/forwards", i)+"/service", "write it as udp/500", "%v", err)
				}
				continue
			}
			if k == 0 && set.Equal(netset.AnyService) {
				c.add(Warn, "forwards-everything", at(base+"/outside/in-front/forwards", i), "forward udp/500 and udp/4500 only",
					"the router in front exposes the whole gateway where two ports would do")
			}
			if set.Contains(p) {
				to = append(to, f.To)
			}
		}
		switch {
		case len(to) == 0:
			c.add(Stop, "forward-missing", base+"/outside/in-front/forwards",
				fmt.Sprintf("add {service: %s, to: %s}", p, g.Outside.Addresses[0]),
				"the router in front does not forward %s: devices cannot connect", p)
			c.mend("add", base+"/outside/in-front/forwards", fmt.Sprintf("{service: %s, to: %s}", p, quote(g.Outside.Addresses[0])))
		case !slices.ContainsFunc(to, func(a netip.Addr) bool { return slices.Contains(g.Outside.Addresses, a) }):
			c.add(Stop, "forward-elsewhere", base+"/outside/in-front/forwards", "forward to "+g.Outside.Addresses[0].String(),
				"%s is forwarded to %s, which is not the gateway's outside address", p, to[0])
		}
	}
}

func (c *checker) dial(base string, g plan.Gateway) {
	a, err := netip.ParseAddr(g.Dial)
	if err != nil {
		return
	}
	candidates := slices.Clone(g.Outside.Addresses)
	if g.Outside.InFront != nil {
		candidates = append([]netip.Addr{g.Outside.InFront.Address}, candidates...)
	}
	insideOnly := func(a netip.Addr) bool { return plan.Private.Contains(a) || c.n.InsideAddrs().Contains(a) }
	candidates = slices.DeleteFunc(candidates, insideOnly) // nobody in the world can dial those
	public := a
	if len(candidates) > 0 {
		public = candidates[0]
	}
	if insideOnly(a) && len(candidates) == 0 {
		c.add(Stop, "dial-private", base+"/dial", "give the public name", "people dial %s, which works inside only", a)
	} else if insideOnly(a) {
		c.add(Stop, "dial-private", base+"/dial", "give the public name, or "+public.String(), "people dial %s, which works inside only", a)
		c.mend("set", base+"/dial", quote(public))
	} else if a != public && !slices.Contains(g.Outside.Addresses, a) {
		c.add(Stop, "dial-elsewhere", base+"/dial", "give "+public.String()+", or a name for it", "people dial %s, which is not an address of this gateway", a)
		c.mend("set", base+"/dial", quote(public))
	}
}

// bareForwards finds ports that are handed on without the protection that belongs around them.
func (c *checker) bareForwards(base string, front *plan.RouterInFront) {
	for i, f := range front.Forwards {
		set, err := netset.ParseServices(f.Service)
		if err == nil && !set.Equal(netset.AnyService) && set.Contains(netset.PortPoint(netset.UDP, 1701)) {
			path := at(base+"/outside/in-front/forwards", i)
			c.add(Warn, "forwards-l2tp", path, "take it out: L2TP comes inside IPsec, by udp/4500",
				"the router in front forwards udp/1701 bare: whoever finds it can speak L2TP without IPsec")
			if len(front.Forwards) > 1 {
				c.mend("remove", path, "")
			}
		}
	}
}

var hostPort = regexp.MustCompile(`^(\[[0-9a-fA-F:]+\]|[^\s:/\[\]]+):[0-9]{1,5}$`)

// changing finds what does not follow a public address that changes.
func (c *checker) changing(base string, g plan.Gateway) {
	_, literal := netip.ParseAddr(g.Dial)
	u := g.Outside.Update
	switch {
	case g.Outside.Changes && literal == nil:
		c.add(Warn, "dial-does-not-follow", base+"/dial", "dial a name, and keep it up to date under outside/update", "people dial %s, but the public address changes: from then on nobody arrives", g.Dial)
	case g.Outside.Changes && u == nil && len(g.Outside.Calls) == 0:
		c.add(Note, "nothing-updates", base+"/outside", "say update: {server, zone, key}, or calls, if this service is to do it", "the public address changes; something else must keep the name %s up to date", g.Dial)
	}
	c.calls(base, g)
	if u == nil {
		return
	}
	path := base + "/outside/update"
	if g.Outside.InFront != nil {
		c.add(Stop, "update-behind-router", path, "let the router in front update the name, and take this out", "the gateway sits behind another router and does not see its public address: it cannot tell the name server")
		c.mend("remove", path, "")
	}
	if !hostPort.MatchString(u.Server) {
		c.add(Stop, "update-server", path+"/server", "write it as 198.51.100.53:53", "%q is no name server with its port: the name is never updated", u.Server)
		if literalServer, err := netip.ParseAddr(u.Server); err == nil {
			c.mend("set", path+"/server", quote(netip.AddrPortFrom(literalServer, 53)))
		}
	}
	if name, zone := strings.ToLower(strings.TrimSuffix(g.Dial, ".")),
		strings.ToLower(strings.TrimSuffix(u.Zone, ".")); literal == nil || name != zone && !strings.HasSuffix(name, "."+zone) {
		c.add(Stop, "update-zone", path+"/zone", "name the zone that "+g.Dial+" is in", "%s is not in zone %s: its server would refuse the update", g.Dial, u.Zone)
	}
	if c.Secrets != nil && !c.Secrets[u.Key] {
		c.add(Stop, "no-secret", path+"/key", "keep it: yl secret keep "+u.Key+" --from-file FILE", "there is no secret %q: the name server would refuse the update", u.Key)
		c.todo(KeepSecret, u.Key, "")
	}
	c.between(path+"/ttl", u.TTL, 30*time.Second, time.Hour)
	c.between(path+"/every", u.Every, 10*time.Second, time.Hour)
}
