// Package ownservice is what a gateway answers people's devices by itself, for clients that learn from IKE neither routes nor names: DHCP
// (RFC 2131 §3.4) and router solicitations (RFC 4861 §6). What is told is what the person's passage gives, and nothing more. Who may ask,
// and that nothing of it goes further, is left to package site.
package ownservice

import (
	"net"
	"net/netip"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/rfc1035label"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

// Ports of DHCP (RFC 2131 §4.1).
const (
	ServerPort = 67
	ClientPort = 68
)

// optionOlderRoutes is the older twin of classless static routes (option 249), which some clients ask for in place of option 121.
const optionOlderRoutes = dhcpv4.GenericOptionCode(249)

// mostOptions is how many octets of options an answer has at the most: with its headers it fits the smallest tunnel.
const mostOptions = 900

// Told is what a device is told.
type Told struct {
	Server  netip.Addr // the gateway's own address of the family
	DNS     []netip.Addr
	Domains []string     // the first is the device's own
	Routes  netset.Addrs // what goes into the tunnel
	Full    bool         // all of it does
	MTU     int          // of the tunnel, in octets
	Page    string       // the name of the code page; empty: there is none
	PageAt  []netip.Addr // its addresses
}

// DHCP answers a DHCPINFORM, the UDP datagram in an IPv4 packet of a person's. ok is false for what is none, or malformed; what a device
// asks for beside (addresses above all) is not answered: it was leased at the login.
func DHCP(b []byte, i packet.Info, t Told) (answer []byte, ok bool) {
	const udpHead = 8
	if i.Transport+udpHead > i.Size || i.SrcPort != ClientPort || !t.Server.IsValid() {
		return nil, false
	}
	ask, err := dhcpv4.FromBytes(b[i.Transport+udpHead : i.Size])
	if err != nil || ask.OpCode != dhcpv4.OpcodeBootRequest || ask.MessageType() != dhcpv4.MessageTypeInform {
		return nil, false
	}
	server := net.IP(t.Server.AsSlice())
	reply, err := dhcpv4.NewReplyFromRequest(ask, dhcpv4.WithMessageType(dhcpv4.MessageTypeAck), dhcpv4.WithServerIP(net.IPv4zero),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(server)), dhcpv4.WithClientIP(net.IP(i.Src.AsSlice())))
	if err != nil {
		return nil, false
	}
	for _, o := range options(ask, t) {
		reply.UpdateOption(o)
		if len(reply.Options.ToBytes()) > mostOptions {
			reply.Options.Del(o.Code)
		}
	}
	return packet.UDP(netip.AddrPortFrom(t.Server, ServerPort), netip.AddrPortFrom(i.Src, ClientPort), reply.ToBytes()), true
}

// options are what is told of what the device asks for, the most useful first.
func options(ask *dhcpv4.DHCPv4, t Told) (out []dhcpv4.Option) {
	if len(t.Domains) > 0 && ask.IsOptionRequested(dhcpv4.OptionDomainName) {
		out = append(out, dhcpv4.OptDomainName(t.Domains[0]))
	}
	var servers []net.IP
	for _, a := range t.DNS {
		if a.Is4() {
			servers = append(servers, a.AsSlice())
		}
	}
	if len(servers) > 0 && ask.IsOptionRequested(dhcpv4.OptionDomainNameServer) {
		out = append(out, dhcpv4.OptDNS(servers...))
	}
	// A client that asks for both heeds the newer one (RFC 3442, "DHCP Client Behavior").
	switch routes := dhcpv4.OptClasslessStaticRoute(routes(t)...); {
	case len(t.Routes.Intersect(netset.All4)) == 0:
	case ask.IsOptionRequested(dhcpv4.OptionClasslessStaticRoute):
		out = append(out, routes)
	case ask.IsOptionRequested(optionOlderRoutes):
		out = append(out, dhcpv4.Option{Code: optionOlderRoutes, Value: routes.Value})
	}
	if len(t.Domains) > 0 && ask.IsOptionRequested(dhcpv4.OptionDNSDomainSearchList) {
		out = append(out, dhcpv4.OptDomainSearch(&rfc1035label.Labels{Labels: t.Domains}))
	}
	if ask.IsOptionRequested(dhcpv4.OptionInterfaceMTU) && t.MTU > 0 {
		out = append(out, dhcpv4.Option{Code: dhcpv4.OptionInterfaceMTU, Value: dhcpv4.Uint16(t.MTU)})
	}
	return out
}

// routes are those of IPv4. The router is none: all of them lead to the other end of the tunnel (RFC 3442, "Local Subnet Routes").
func routes(t Told) (out []*dhcpv4.Route) {
	for _, p := range t.Routes.Intersect(netset.All4).Prefixes() {
		out = append(out, &dhcpv4.Route{
			Dest:   &net.IPNet{IP: net.IP(p.Addr().AsSlice()), Mask: net.CIDRMask(p.Bits(), 32)},
			Router: net.IPv4zero.To4(),
		})
	}
	return out
}
