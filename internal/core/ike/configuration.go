package ike

import (
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"

	"yellowlantern/internal/core/netset"
)

// Configuration payload types and attributes (RFC 7296 §3.15, RFC 8598 §3).
const (
	cfgRequest = 1
	cfgReply   = 2

	cfgIP4Address = 1
	cfgIP4Netmask = 2
	cfgIP4DNS     = 3
	cfgIP6Address = 8
	cfgIP6DNS     = 10
	cfgIP4Subnet  = 13
	cfgIP6Subnet  = 15
	cfgDNSDomain  = 25
)

// Configuration is what the gateway gives a device.
type Configuration struct {
	Addresses []netip.Addr
	Prefixes  []netip.Prefix // of IPv6, whole, each with one of the addresses in it
	DNS       []netip.Addr
	Domains   []string
	Routes    netset.Addrs // what goes into the tunnel
	Full      bool         // everything does
}

type cfgAttr struct {
	kind  uint16
	value []byte
}

func cfgPayload(kind uint8, attrs []cfgAttr) payload {
	return payload{kind: plCP, body: build(func(b *cryptobyte.Builder) {
		b.AddUint8(kind)
		b.AddBytes([]byte{0, 0, 0})
		for _, a := range attrs {
			b.AddUint16(a.kind)
			b.AddUint16(uint16(len(a.value)))
			b.AddBytes(a.value)
		}
	})}
}

func parseCfg(body []byte) (kind uint8, attrs []cfgAttr, err error) {
	s := cryptobyte.String(body)
	if !s.ReadUint8(&kind) || !s.Skip(3) {
		return 0, nil, errMalformed
	}
	for !s.Empty() {
		var a cfgAttr
		var length uint16
		if !s.ReadUint16(&a.kind) || !s.ReadUint16(&length) || !s.ReadBytes(&a.value, int(length)) {
			return 0, nil, errMalformed
		}
		a.kind &= 0x7fff
		attrs = append(attrs, a)
	}
	return kind, attrs, nil
}

// wanted is how many addresses of a family are asked for (RFC 7296 §3.15.1).
func wanted(asked []cfgAttr, v4 bool) (n int) {
	kind := uint16(cfgIP6Address)
	if v4 {
		kind = cfgIP4Address
	}
	for _, a := range asked {
		if a.kind == kind {
			n++
		}
	}
	return n
}

// askedFor leaves as many addresses of each family as are asked for, and the prefixes of those.
func (c Configuration) askedFor(asked []cfgAttr) Configuration {
	left := map[bool]int{true: wanted(asked, true), false: wanted(asked, false)}
	var addrs []netip.Addr
	for _, a := range c.Addresses {
		if left[a.Is4()] > 0 {
			left[a.Is4()]--
			addrs = append(addrs, a)
		}
	}
	c.Addresses = addrs
	c.Prefixes = slices.DeleteFunc(slices.Clone(c.Prefixes), func(p netip.Prefix) bool { return !slices.ContainsFunc(addrs, p.Contains) })
	return c
}

// leased is everything that the device is given to be.
func (c Configuration) leased() netset.Addrs {
	return netset.OfAddrs(c.Addresses...).Union(netset.OfPrefixes(c.Prefixes...))
}

// bitsOf is the length of the prefix that an address stands for.
func (c Configuration) bitsOf(a netip.Addr) int {
	for _, p := range c.Prefixes {
		if p.Contains(a) {
			return p.Bits()
		}
	}
	return a.BitLen()
}

// requestCfg asks for everything that a device can use, and for so many addresses of each family.
func requestCfg(addresses int) payload {
	var attrs []cfgAttr
	for range max(1, addresses) {
		attrs = append(attrs, cfgAttr{kind: cfgIP4Address}, cfgAttr{kind: cfgIP6Address})
	}
	for _, kind := range []uint16{cfgIP4DNS, cfgIP6DNS, cfgIP4Subnet, cfgIP6Subnet, cfgDNSDomain} {
		attrs = append(attrs, cfgAttr{kind: kind})
	}
	return cfgPayload(cfgRequest, attrs)
}

// reply answers a request. Domains are told only to those who ask (RFC 8598 §3.1).
func (c Configuration) reply(asked []cfgAttr) payload {
	wants := func(kind uint16) bool {
		return slices.ContainsFunc(asked, func(a cfgAttr) bool { return a.kind == kind })
	}
	var out []cfgAttr
	for _, a := range c.Addresses {
		if a.Is4() {
			out = append(out, cfgAttr{cfgIP4Address, a.AsSlice()}, cfgAttr{cfgIP4Netmask, []byte{255, 255, 255, 255}})
		} else {
			out = append(out, cfgAttr{cfgIP6Address, append(a.AsSlice(), byte(c.bitsOf(a)))})
		}
	}
	for _, a := range c.DNS {
		kind := uint16(cfgIP6DNS)
		if a.Is4() {
			kind = cfgIP4DNS
		}
		out = append(out, cfgAttr{kind, a.AsSlice()})
	}
	if wants(cfgDNSDomain) {
		for _, d := range c.Domains {
			out = append(out, cfgAttr{cfgDNSDomain, []byte(d)})
		}
	}
	if !c.Full {
		for _, p := range c.Routes.Prefixes() {
			if p.Addr().Is4() {
				mask := netip.AddrFrom4([4]byte{255, 255, 255, 255})
				m, _ := mask.Prefix(p.Bits())
				out = append(out, cfgAttr{cfgIP4Subnet, append(p.Addr().AsSlice(), m.Addr().AsSlice()...)})
			} else {
				out = append(out, cfgAttr{cfgIP6Subnet, append(p.Addr().AsSlice(), byte(p.Bits()))})
			}
		}
	}
	return cfgPayload(cfgReply, out)
}

// mostGiven is how many addresses, DNS servers and domains of a reply a device reads, of each; more is an error.
const mostGiven = 64

// readReply is the device's reading of what it was given. Routes come from the traffic selectors, which bind; the
// subnets are advice that must not widen them.
func readReply(attrs []cfgAttr) (Configuration, error) {
	var c Configuration
	for _, a := range attrs {
		size := map[uint16]int{cfgIP4Address: 4, cfgIP4DNS: 4, cfgIP6Address: 17, cfgIP6DNS: 16}[a.kind]
		if size != 0 && len(a.value) != size {
			return c, errMalformed
		}
		switch a.kind {
		case cfgIP4Address, cfgIP6Address:
			addr, _ := netip.AddrFromSlice(a.value[:size&^1])
			c.Addresses = append(c.Addresses, addr)
			if a.kind == cfgIP6Address && a.value[16] < 128 {
				if p, err := addr.Prefix(int(a.value[16])); err == nil {
					c.Prefixes = append(c.Prefixes, p)
				}
			}
		case cfgIP4DNS, cfgIP6DNS:
			addr, _ := netip.AddrFromSlice(a.value)
			c.DNS = append(c.DNS, addr)
		case cfgDNSDomain:
			c.Domains = append(c.Domains, strings.TrimSuffix(printable(a.value), "."))
		}
		if max(len(c.Addresses), len(c.DNS), len(c.Domains)) > mostGiven {
			return c, errMalformed
		}
	}
	return c, nil
}
