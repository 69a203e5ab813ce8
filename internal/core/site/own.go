package site

import (
	"net/netip"

	"yellowlantern/internal/core/netset"
)

// Own is one of the gateway's own services: what a device asks of the other end of its tunnel, for clients that learn from IKE neither
// routes nor names. What asks for it is answered by the gateway itself, and goes no further.
type Own int

// The services.
const (
	NoOwn      Own = iota
	OwnDHCP        // DHCPINFORM: UDP from the session's IPv4 address to port 67 at 255.255.255.255
	OwnPage        // anything to the code page's addresses from the session's
	OwnNames       // of a session that is held, or at the code page: UDP to port 53
	OwnRouters     // router solicitation: ICMPv6 type 133 to ff02::2 from an address of the link's, none, or the session's
)

var (
	everybody  = netip.AddrFrom4([4]byte{255, 255, 255, 255})
	allRouters = netip.MustParseAddr("ff02::2")
	dhcpServer = netset.PortPoint(netset.UDP, 67)
	solicits   = netset.ICMPPoint(netset.ICMPv6, 133, 0)
)

// Owned decides at the station of the gateway's own services which of them a packet asks for; NoOwn: none, and it goes on. It must not be a
// part of one.
func (m *Model) Owned(p Packet, leased netset.Addrs) Own {
	if m.page.Contains(p.Dst) && leased.Contains(p.Src) {
		if p.Service == dns {
			return OwnNames
		}
		return OwnPage
	}
	switch p.Dst {
	case everybody:
		if p.Service == dhcpServer && leased.Contains(p.Src) {
			return OwnDHCP
		}
	case allRouters:
		if p.Service == solicits && leased.HasFamily(false) &&
			(p.Src.IsLinkLocalUnicast() || p.Src.IsUnspecified() || leased.Contains(p.Src)) {
			return OwnRouters
		}
	}
	return NoOwn
}

// Keeps is the station of the gateway's own services for journeys; ok is false where the packet is not for them.
func (m *Model) Keeps(c *Class, p Packet, leased netset.Addrs) (v Verdict, ok bool) {
	setting := "passages/" + c.Passage.Name + "/routes"
	switch m.Owned(p, leased) {
	case OwnPage, OwnNames:
		return pass("gateways/"+m.Gateway.Name+"/code-page", "%s is the code page: the gateway answers by itself, and nothing of it goes further", p.Dst), true
	case OwnDHCP:
		return pass(setting, "the gateway answers DHCP by itself, with routes and names of passage %s: nothing of it goes further", c.Passage.Name), true
	case OwnRouters:
		return pass(setting, "the gateway answers router solicitations by itself, with routes and names of passage %s: nothing of it goes further",
			c.Passage.Name), true
	}
	return Verdict{}, false
}
