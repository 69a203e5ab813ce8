package site

import "net/netip"

// PublicAddresses are those by which the gateway is seen on the internet: its own, or that of the router in front of it.
func (m *Model) PublicAddresses() []netip.Addr {
	if front := m.Gateway.Outside.InFront; front != nil && front.Address.IsValid() {
		return []netip.Addr{front.Address}
	}
	return append([]netip.Addr{}, m.Gateway.Outside.Addresses...)
}

// OwnPrefixes are the networks that the gateway is attached to, and its own outside addresses.
func (m *Model) OwnPrefixes() []netip.Prefix {
	out := []netip.Prefix{}
	for _, at := range m.Gateway.Inside {
		if n := m.Names.Networks[at.Network]; n != nil {
			out = append(out, n.Prefixes...)
		}
	}
	for _, a := range m.Gateway.Outside.Addresses {
		out = append(out, netip.PrefixFrom(a, a.BitLen()))
	}
	return out
}

// InsideOwn are the gateway's own inside addresses, by which it speaks to people.
func (m *Model) InsideOwn() []netip.Addr {
	out := []netip.Addr{}
	for _, at := range m.Gateway.Inside {
		out = append(out, at.Addresses...)
	}
	return out
}
