package ownservice

import (
	"net/netip"
	"strings"

	wire "github.com/miekg/dns"

	"yellowlantern/internal/core/packet"
)

// pageTTL is for how long a device may go by what it is told of the code page, in seconds.
const pageTTL = 30

// Names answers a question for a name (RFC 1035), the UDP datagram in a packet of a person's: the code page's with its addresses, any other
// with REFUSED, which nobody keeps. ok is false for what is none, or malformed.
func Names(b []byte, i packet.Info, t Told) (answer []byte, ok bool) {
	const udpHead = 8
	var ask wire.Msg
	if i.Transport+udpHead > i.Size || ask.Unpack(b[i.Transport+udpHead:i.Size]) != nil || ask.Response || len(ask.Question) != 1 {
		return nil, false
	}
	q := ask.Question[0]
	var reply wire.Msg
	reply.SetReply(&ask)
	reply.RecursionAvailable = true
	switch {
	case t.Page == "" || ask.Opcode != wire.OpcodeQuery || q.Qclass != wire.ClassINET || !strings.EqualFold(q.Name, wire.Fqdn(t.Page)):
		reply.Rcode = wire.RcodeRefused
	default:
		reply.Answer = addressesOf(q, t.PageAt)
	}
	out, err := reply.Pack()
	if err != nil {
		return nil, false
	}
	return packet.UDP(netip.AddrPortFrom(i.Dst, i.DstPort), netip.AddrPortFrom(i.Src, i.SrcPort), out), true
}

func addressesOf(q wire.Question, all []netip.Addr) (out []wire.RR) {
	for _, a := range all {
		head := wire.RR_Header{Name: q.Name, Rrtype: wire.TypeA, Class: wire.ClassINET, Ttl: pageTTL}
		switch {
		case a.Is4() && q.Qtype == wire.TypeA:
			out = append(out, &wire.A{Hdr: head, A: a.AsSlice()})
		case a.Is6() && q.Qtype == wire.TypeAAAA:
			head.Rrtype = wire.TypeAAAA
			out = append(out, &wire.AAAA{Hdr: head, AAAA: a.AsSlice()})
		}
	}
	return out
}
