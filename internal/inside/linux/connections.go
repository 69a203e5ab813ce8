package linux

import (
	"net/netip"

	"github.com/ti-mo/conntrack"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
)

// tuple names a flow to the kernel, which finds it by either of its directions.
func tuple(f inside.Flow) conntrack.Flow {
	t := conntrack.Tuple{
		IP:    conntrack.IPTuple{SourceAddress: f.Src, DestinationAddress: f.Dst},
		Proto: conntrack.ProtoTuple{Protocol: f.Proto, SourcePort: f.SrcPort, DestinationPort: f.DstPort},
	}
	switch f.Proto {
	case netset.ICMP:
		t.Proto.ICMPv4, t.Proto.ICMPID, t.Proto.ICMPType = true, f.Ident, f.Kind
	case netset.ICMPv6:
		t.Proto.ICMPv6, t.Proto.ICMPID, t.Proto.ICMPType = true, f.Ident, f.Kind
	}
	out := conntrack.Flow{TupleOrig: t}
	if f.Src.Is6() { // by which the library tells the family; the kernel looks at the first alone
		out.TupleReply = t
	}
	return out
}

// Forget deletes the entries of flows, with their translations. What has none is forgotten already.
func (p *Port) Forget(flows []inside.Flow) {
	p.tracking.Lock()
	defer p.tracking.Unlock()
	c, err := p.track()
	if err != nil {
		p.log.Warn("the kernel's connections cannot be reached: their translations stay until they are silent", "error", err)
		return
	}
	for _, f := range flows {
		_ = c.Delete(tuple(f))
	}
}

// Leaves tells the source with which a flow leaves the machine, where the kernel knows it.
func (p *Port) Leaves(f inside.Flow) (netip.AddrPort, bool) {
	p.tracking.Lock()
	defer p.tracking.Unlock()
	c, err := p.track()
	if err != nil {
		return netip.AddrPort{}, false
	}
	known, err := c.Get(tuple(f))
	if err != nil || known.TupleOrig.IP.SourceAddress != f.Src { // opened from inside: the person sees the source already
		return netip.AddrPort{}, false
	}
	back := known.TupleReply
	port := back.Proto.DestinationPort
	if f.Proto == netset.ICMP || f.Proto == netset.ICMPv6 {
		port = back.Proto.ICMPID
	}
	return netip.AddrPortFrom(back.IP.DestinationAddress, port), true
}

// track is the connection to the kernel's. p.tracking is held.
func (p *Port) track() (*conntrack.Conn, error) {
	if p.conntrack == nil {
		c, err := conntrack.Dial(nil)
		if err != nil {
			return nil, err
		}
		p.conntrack = c
	}
	return p.conntrack, nil
}
