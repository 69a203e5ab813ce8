package gateway

import (
	"net/netip"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
)

// flows lists live flows, with what a kernel that translates makes of their sources.
func (g *Gateway) flows(match func(user string) bool, peer netip.Addr, service string, most int) []forward.Flow {
	out := g.engine.FlowsWith(match, peer, service, most)
	k, ok := g.cfg.Inside.(Kernel)
	if !ok {
		return out
	}
	for i := range out {
		f := &out[i]
		if as, known := k.Leaves(f.Ends); known && as.Addr() != f.Ends.Src {
			if f.Leaves = as.String(); f.Ends.Proto != netset.TCP && f.Ends.Proto != netset.UDP {
				f.Leaves = as.Addr().String()
			}
		}
	}
	return out
}
