package site

import (
	"net/netip"

	"yellowlantern/internal/core/netset"
)

// A session is held until its person has given their second factor: it reaches the code page and nothing else, and nobody reaches it.

var dns = netset.PortPoint(netset.UDP, 53)

// OwnedHeld decides at the station of the gateway's own services for a session that is held: it has names answered there as well, whichever
// of its name servers it asks.
func (m *Model) OwnedHeld(c *Class, p Packet, leased netset.Addrs, servers []netip.Addr) Own {
	if p.Service == dns && leased.Contains(p.Src) {
		for _, a := range servers {
			if a == p.Dst {
				return OwnNames
			}
		}
	}
	return m.Owned(p, leased)
}

// HeldBy is the setting that holds a session.
func (c *Class) HeldBy() Ref { return Ref{"passages", c.Passage.Name, "second-factor"} }

// TravelHeld follows a packet of somebody whose session is held: it goes no further than to the gateway itself.
func (m *Model) TravelHeld(c *Class, p Packet, leased netset.Addrs) Journey {
	t := traveller{m: m, j: Journey{Packet: p}, src: p.Src, dst: p.Dst}
	if !t.add(Admission, true, false, m.Admit(c)) {
		return t.j
	}
	setting := c.HeldBy().String()
	if m.OwnedHeld(c, p, leased, c.Passage.DNS.Servers) == OwnNames {
		return t.answered(pass(setting, "while the session is held the gateway answers names by itself, and only that of the code page"))
	}
	if v, own := m.Keeps(c, p, leased); own {
		return t.answered(v)
	}
	if !t.add(Source, true, false, m.FromLeased(c, p, leased)) {
		return t.j
	}
	t.add(Held, true, false, lost(setting,
		"the session is held until its person has given the second factor that passage %s asks for", c.Passage.Name))
	return t.j
}
