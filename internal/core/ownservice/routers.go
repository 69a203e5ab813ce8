package ownservice

import (
	"encoding/binary"
	"net/netip"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
)

const (
	solicitation  = 133 // ICMPv6 types, RFC 4861 §4.1 and §4.2
	advertisement = 134
	hopLimit      = 255 // of both: whoever forwards one spoils it
	// Options.
	optMTU    = 5  // RFC 4861 §4.6.4
	optRoute  = 24 // RFC 4191 §2.3
	optDNS    = 25 // RFC 8106 §5.1
	optSearch = 31 // RFC 8106 §5.2

	longestDefault = 65535 // seconds that a router may be the default one (RFC 8319 §4): it is not told again
	forever        = 1<<32 - 1
	mostAdvertised = 1200 // octets of options
)

var (
	// AllRouters is whom a device asks (RFC 4291 §2.7.1).
	AllRouters = netip.MustParseAddr("ff02::2")
	allNodes   = netip.MustParseAddr("ff02::1")
	// itself is the gateway on the link to a device: every link is one of its own.
	itself = netip.MustParseAddr("fe80::1")
)

// Routers answers a router solicitation, in an IPv6 packet of a person's device: where everything goes into the tunnel the gateway is the
// default router, and otherwise the routes are told one by one (RFC 4191). No prefix is told: a device has the address that it was leased,
// and no other would be taken from it. ok is false for what is none, or malformed.
func Routers(b []byte, i packet.Info, t Told) (answer []byte, ok bool) {
	if i.HopLimit != hopLimit || i.Transport+8 > i.Size {
		return nil, false
	}
	ask := b[i.Transport:i.Size]
	if ask[0] != solicitation || ask[1] != 0 || !optionsRead(ask[8:]) {
		return nil, false
	}
	body := make([]byte, 16) // RFC 4861 §4.2: no hop limit of ours, no flags, no times
	body[0] = advertisement
	if t.Full {
		binary.BigEndian.PutUint16(body[6:], longestDefault)
	}
	body = append(body, optMTU, 1, 0, 0)
	body = binary.BigEndian.AppendUint32(body, uint32(t.MTU))
	add := func(o []byte) {
		if len(body)+len(o) <= mostAdvertised {
			body = append(body, o...)
		}
	}
	add(dns(t.DNS))
	add(search(t.Domains))
	if !t.Full {
		for _, p := range t.Routes.Intersect(netset.All6).Prefixes() {
			add(route(p))
		}
	}
	to := i.Src
	if to.IsUnspecified() {
		to = allNodes
	}
	out := packet.Message(itself, to, body)
	out[7] = hopLimit
	return out, true
}

// optionsRead tells whether options are well formed (RFC 4861 §6.1.1: none has the length zero).
func optionsRead(b []byte) bool {
	for len(b) > 0 {
		if len(b) < 2 || b[1] == 0 || int(b[1])*8 > len(b) {
			return false
		}
		b = b[int(b[1])*8:]
	}
	return true
}

func route(p netip.Prefix) []byte {
	units := 1 + (p.Bits()+63)/64
	o := []byte{optRoute, byte(units), byte(p.Bits()), 0}
	o = binary.BigEndian.AppendUint32(o, forever)
	a := p.Addr().As16()
	return append(o, a[:8*(units-1)]...)
}

func dns(servers []netip.Addr) []byte {
	o := []byte{optDNS, 1, 0, 0, 0xff, 0xff, 0xff, 0xff}
	for _, a := range servers {
		if a.Is6() && o[1] < 9 {
			o[1] += 2
			o = append(o, a.AsSlice()...)
		}
	}
	if o[1] == 1 {
		return nil
	}
	return o
}

func search(domains []string) []byte {
	o := []byte{optSearch, 0, 0, 0, 0xff, 0xff, 0xff, 0xff}
	for _, d := range domains {
		var name []byte
		for label := range strings.SplitSeq(strings.TrimSuffix(d, "."), ".") {
			if label == "" || len(label) > 63 {
				name = nil
				break
			}
			name = append(append(name, byte(len(label))), label...)
		}
		if name != nil && len(o)+len(name)+1 <= 500 {
			o = append(append(o, name...), 0)
		}
	}
	if len(o) == 8 {
		return nil
	}
	for len(o)%8 != 0 {
		o = append(o, 0)
	}
	o[1] = byte(len(o) / 8)
	return o
}
