package site

import (
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
)

// This file holds the stations of what is opened from inside towards a person's device (docs/semantics.md, "From inside"). Sets are
// by where the packets begin: the address that people's answers go to.

// Approaches is the approach station: does the network that the packet begins on bring it to the gateway?
func (m *Model) Approaches(p Packet) Verdict {
	home := m.Names.NetworkOf(p.Src)
	if home == nil {
		return lost("networks", "%s is on no inside network, and the internet knows no way to %s", p.Src, p.Dst)
	}
	return m.believed(p.Src, m.backFrom(home, p.Dst))
}

// Origin decides at the origin station: is the source one that the gateway would reach? out is the way to it, by which the packet must have
// come.
func (m *Model) Origin(p Packet) (out Egress, ok bool) {
	if m.own.Contains(p.Src) {
		return Egress{}, false
	}
	out, ok, _ = m.RouteTo(towards(p))
	return out, ok
}

// Comes tells whether a packet of a source may come by the outside link, or by an inside one: it is a link that leads to the source, of
// several routes that are as good any.
func (m *Model) Comes(src netip.Addr, outside bool) bool {
	if _, ok := m.Origin(Packet{Src: src, Dst: src}); !ok {
		return false
	}
	for _, network := range m.links(src) {
		if (network == internet) == outside {
			return true
		}
	}
	return false
}

// leads tells whether a network that the gateway is attached to, or the internet, leads to an address.
func (m *Model) leads(a netip.Addr, network string) bool { return slices.Contains(m.links(a), network) }

// links are the networks by which the gateway's best routes lead to an address, the one that it uses first.
func (m *Model) links(a netip.Addr) (out []string) {
	for k, i := range m.table.all(a) {
		if network := m.table.entries[i].egress.Network; k == 0 || !slices.Contains(out, network) {
			out = append(out, network)
		}
	}
	return out
}

// towards is a packet to where another one came from.
func towards(p Packet) Packet {
	return Packet{Src: p.Dst, Dst: p.Src, Service: netset.PortPoint(netset.TCP, 0)}
}

// Originates is the origin station, in words.
func (m *Model) Originates(p Packet) (out Egress, v Verdict) {
	if m.own.Contains(p.Src) {
		return Egress{}, lost("gateways/"+m.Gateway.Name, "%s is the gateway's own address: nobody else may send with it", p.Src)
	}
	out, v = m.Route(towards(p))
	if v.OK {
		v.Words = "comes from where the gateway would send to: " + v.Words
	}
	return out, v
}

// OriginSet is the sources that the origin station lets through.
func (m *Model) OriginSet() netset.Addrs { return m.routed.Subtract(m.own) }

// ToDevice is the selectors station and the device station for a packet towards a person's device, in this order.
func (m *Model) ToDevice(c *Class, p Packet) (selected, device Verdict) {
	back := Packet{Src: p.Dst, Dst: p.Src, Service: p.Service}
	return m.Selected(c, back), m.FromDevice(c, back)
}

// TravelInward follows a packet from inside towards the leased address of a person of the class, and the device's answer. It goes on
// past what the gateway does not enforce, like Travel.
func (m *Model) TravelInward(c *Class, p Packet, leased netset.Addrs, when When) Journey {
	t := traveller{m: m, j: Journey{Packet: p, Arrives: true, Enforced: true}, src: p.Src, dst: p.Dst}
	if !t.add(Admission, true, false, m.Admit(c)) {
		return t.j
	}
	t.add(Approach, false, false, m.Approaches(p))
	out, v := m.Originates(p)
	if !t.add(Origin, true, false, v) {
		return t.j
	}
	as, v := m.TranslateInward(p)
	if v.OK {
		t.src = as
	}
	if !t.add(Translating, true, false, v) {
		return t.j
	}
	asked := p
	p.Src = as
	v = pass("pools/"+c.Passage.Passage.Pool, "%s is leased to a session of this person", p.Dst)
	if !leased.Contains(p.Dst) {
		v = lost("pools/"+c.Passage.Passage.Pool, "%s is not an address of this session", p.Dst)
	}
	if !t.add(State, true, false, v) {
		return t.j
	}
	if _, v = m.JudgeInward(c, p, when); !v.OK && m.own.Contains(as) {
		_, _, ref := m.SourceInward(asked)
		v.Setting = ref.String() // no rule could mend it
	}
	if !t.add(Rules, true, false, v) {
		return t.j
	}
	selected, device := m.ToDevice(c, p)
	t.add(Selectors, false, false, selected)
	t.add(Device, false, false, device)
	if t.j.Arrives {
		t.src = asked.Src
		t.add(Onward, false, true, m.Carry(Packet{Src: asked.Dst, Dst: asked.Src, Service: asked.Service}, out))
	}
	return t.j
}
