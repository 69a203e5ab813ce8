package site

import "yellowlantern/internal/core/netset"

// FromDevice is the device station: does the person's device send the packet into the tunnel?
func (m *Model) FromDevice(c *Class, p Packet) Verdict {
	setting := "passages/" + c.Passage.Name + "/routes"
	if !c.Passage.Pool.HasFamily(p.Dst.Is4()) {
		return lost("pools/"+c.Passage.Passage.Pool, "pool %s has no address of this family", c.Passage.Passage.Pool)
	}
	if !c.Passage.Routes.Contains(p.Dst) {
		return lost(setting, "%s is not among the routes of passage %s, so the device does not send it into the tunnel", m.Place(p.Dst),
			c.Passage.Name)
	}
	if !c.Passage.sent.Contains(p.Dst) {
		return lost("passages/"+c.Passage.Name+"/home-networks", "people of passage %s may have a home network that holds %s too: their devices look for it there, not in the tunnel", c.Passage.Name, p.Dst)
	}
	if c.Passage.Passage.Routes.Full {
		return pass(setting, "full tunnel: the device sends everything into it")
	}
	return pass(setting, "a split route of passage %s leads into the tunnel", c.Passage.Name)
}

// DeviceSet is the destinations that the class's devices send into the tunnel.
func (m *Model) DeviceSet(c *Class) netset.Addrs { return c.Passage.sent }

// Selects decides at the selectors station, by the address away from the person.
func (c *Class) Selects(p Packet) (bool, Ref) {
	return c.Passage.Routes.Contains(p.Dst), Ref{"passages", c.Passage.Name, "routes"}
}

// Selected is the selectors station. The selectors are agreed from the passage's routes at login.
func (m *Model) Selected(c *Class, p Packet) Verdict {
	ok, ref := c.Selects(p)
	setting := ref.String()
	if !ok {
		return lost(setting, "%s is outside the traffic selectors agreed at login", p.Dst)
	}
	return pass(setting, "within the traffic selectors agreed at login")
}

// Leases decides at the source station.
func (c *Class) Leases(p Packet, leased netset.Addrs) (bool, Ref) {
	return leased.Contains(p.Src), Ref{List: "pools", Name: c.Passage.Passage.Pool}
}

// FromLeased is the source station.
func (m *Model) FromLeased(c *Class, p Packet, leased netset.Addrs) Verdict {
	ok, ref := c.Leases(p, leased)
	setting := ref.String()
	if !ok {
		return lost(setting, "source %s is not an address of this session", p.Src)
	}
	return pass(setting, "source %s is leased to this session from pool %s", p.Src, c.Passage.Passage.Pool)
}
