package connection

import (
	"bytes"
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/dial"
)

// inbound is what may come by the tunnel: packets from what goes into it to the addresses that were assigned (RFC 4301 §5.2, step 4).
// Everything else would reach this host's own network, or what it forwards for, as if it came from there.
type inbound struct {
	to   []netip.Addr
	nets []netip.Prefix // assigned whole, for what is behind this host
	from netset.Addrs
}

// inboundOf is what may come of what was assigned, near being the prefixes that this host reaches without the tunnel: of two that hold an
// address the longer counts, as for what is sent.
func inboundOf(g dial.Given, near []netip.Prefix) *inbound {
	in := &inbound{to: g.Addresses, nets: g.Prefixes}
	routes := g.Routes.Prefixes()
	if g.Full {
		routes = []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}
	}
	for _, r := range routes {
		nearer := slices.DeleteFunc(slices.Clone(near), func(n netip.Prefix) bool { return n.Bits() < r.Bits() })
		in.from = in.from.Union(netset.OfPrefixes(r).Subtract(netset.OfPrefixes(nearer...)))
	}
	in.from = in.from.Subtract(neverInside).Subtract(netset.OfAddrs(g.Addresses...))
	return in
}

// packets takes out what may not come, and tells how many those were. Packets of one flow come one after the other: what has the addresses
// of the one before it fares as that did.
func (in *inbound) packets(all [][]byte) (good [][]byte, refused int) {
	good = all[:0]
	var last []byte
	for _, b := range all {
		pair := addressesOf(b)
		switch {
		case pair == nil:
			refused++
			continue
		case bytes.Equal(pair, last):
		case in.between(pair):
			last = pair
		case !in.reports(b):
			refused++
			continue
		}
		good = append(good, b)
	}
	return good, refused
}

// addressesOf are the octets of a header that hold source and destination.
func addressesOf(b []byte) []byte {
	switch {
	case len(b) >= 20 && b[0]>>4 == 4:
		return b[12:20]
	case len(b) >= 40 && b[0]>>4 == 6:
		return b[8:40]
	}
	return nil
}

func (in *inbound) between(pair []byte) bool {
	src, _ := netip.AddrFromSlice(pair[:len(pair)/2])
	dst, _ := netip.AddrFromSlice(pair[len(pair)/2:])
	return in.ours(dst) && in.from.Contains(src)
}

func (in *inbound) ours(a netip.Addr) bool {
	return slices.Contains(in.to, a) || slices.ContainsFunc(in.nets, func(p netip.Prefix) bool { return p.Contains(a) })
}

// reports tells whether a packet is an ICMP error about something that this host sent into the tunnel: a router on the way, of any
// address, may say so (RFC 4301 §6.1.1).
func (in *inbound) reports(b []byte) bool {
	i, err := packet.Parse(b)
	if err != nil || !i.ICMPError() || neverInside.Contains(i.Src) || !in.ours(i.Dst) {
		return false
	}
	about, _, err := packet.Quoted(b, i)
	return err == nil && about.Src == i.Dst && in.from.Contains(about.Dst)
}
