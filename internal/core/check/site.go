package check

import (
	"fmt"
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// needed is what the router in front must forward for a tunnel kind.
var needed = []netset.Point{netset.PortPoint(netset.UDP, 500), netset.PortPoint(netset.UDP, 4500)}

// site finds what keeps callers from arriving at the gateway.
func (c *checker) site() {
	if len(c.p.Gateways) == 0 {
		c.add(Stop, "no-gateway", "gateways", "make a gateway", "the plan has no gateway: nobody can connect")
		return
	}
	for i, g := range c.p.Gateways {
		base := "gateways/" + g.Name
		if i > 0 {
			c.add(Stop, "not-yet", base, "keep one gateway in the plan", "a service runs one gateway so far: %s would not run", g.Name)
		}
		c.outside(base, g)
		c.dial(base, g)
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
				c.add(Stop, "next-hop-not-attached", at(base+"/routes", k)+"/via", "name a next hop on a network under inside, or attach the gateway to that network",
					"next hop %s is on no network that the gateway is attached to: the route to %s does not exist", r.Via, r.To)
			}
		}
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
	for _, p := range needed {
		var to []netip.Addr
		for i, f := range front.Forwards {
			set, err := netset.ParseServices(f.Service)
			if err != nil {
				if p == needed[0] {
					c.add(Stop, "malformed-service", at(base+"/outside/in-front/forwards", i)+"/service", "write it as udp/500", "%v", err)
				}
				continue
			}
			if p == needed[0] && set.Equal(netset.AnyService) {
				c.add(Warn, "forwards-everything", at(base+"/outside/in-front/forwards", i), "forward udp/500 and udp/4500 only", "the router in front exposes the whole gateway where two ports would do")
			}
			if set.Contains(p) {
				to = append(to, f.To)
			}
		}
		switch {
		case len(to) == 0:
			c.add(Stop, "forward-missing", base+"/outside/in-front/forwards", fmt.Sprintf("add {service: %s, to: %s}", p, g.Outside.Addresses[0]),
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
	public := a
	if len(g.Outside.Addresses) > 0 {
		public = g.Outside.Addresses[0]
	}
	if g.Outside.InFront != nil {
		public = g.Outside.InFront.Address
	}
	if plan.Private.Contains(a) || c.n.InsideAddrs().Contains(a) {
		c.add(Stop, "dial-private", base+"/dial", "give the public name, or "+public.String(), "people dial %s, which works inside only", a)
		c.mend("set", base+"/dial", quote(public))
	} else if a != public && !slices.Contains(g.Outside.Addresses, a) {
		c.add(Stop, "dial-elsewhere", base+"/dial", "give "+public.String()+", or a name for it", "people dial %s, which is not an address of this gateway", a)
		c.mend("set", base+"/dial", quote(public))
	}
}
