package linux

import (
	"errors"
	"net"
	"net/netip"
	"slices"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/core/reason"
)

// routes are the machine's routes of the main table, ours and others'.
type routes struct {
	ours   []netlink.Route
	others []netlink.Route
}

func lookRoutes() (routes, error) {
	var out routes
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		all, err := netlink.RouteListFiltered(family, &netlink.Route{Table: unix.RT_TABLE_MAIN}, netlink.RT_FILTER_TABLE)
		if err != nil {
			return out, err
		}
		for _, r := range all {
			if r.Dst == nil { // the library leaves out what everything is
				r.Dst = ipNet(netip.PrefixFrom(netip.IPv4Unspecified(), 0))
				if family == netlink.FAMILY_V6 {
					r.Dst = ipNet(netip.PrefixFrom(netip.IPv6Unspecified(), 0))
				}
			}
			if r.Protocol == kernel.Protocol {
				out.ours = append(out.ours, r)
			} else {
				out.others = append(out.others, r)
			}
		}
	}
	return out, nil
}

// placed is a route as it can be compared.
type placed struct {
	to          netip.Prefix
	via         netip.Addr
	link        int
	unreachable bool
	metric, mtu int
}

func placedOf(r netlink.Route) placed {
	p := placed{to: prefixOf(r.Dst), link: r.LinkIndex, metric: r.Priority, mtu: r.MTU, unreachable: r.Type == unix.RTN_UNREACHABLE}
	if a, ok := netip.AddrFromSlice(r.Gw); ok {
		p.via = fold.Addr(a)
	}
	if p.unreachable {
		p.link = 0 // IPv6 puts it on the loopback
	}
	return p
}

// applyRoutes makes our routes what they are to be, and no others ours. It gives what keeps them from it.
func (m *machine) applyRoutes(want []kernel.Route, device int, change bool) (problems []inside.Problem, drifted []string, err error) {
	now, err := lookRoutes()
	if err != nil {
		return nil, nil, err
	}
	wanted := map[placed]netlink.Route{}
	for _, r := range want {
		one := netlink.Route{
			Dst: ipNet(r.To), Protocol: kernel.Protocol, Priority: r.Metric, MTU: r.MTU, Table: unix.RT_TABLE_MAIN,
		}
		switch {
		case r.Link != "" && m.down(r.Link): // the kernel takes none by it, and it is told already that it is down
			continue
		case r.Unreachable:
			one.Type = unix.RTN_UNREACHABLE
		case !r.Via.IsValid():
			one.LinkIndex, one.Scope = device, netlink.SCOPE_LINK
			if r.Source.IsValid() && m.own.Contains(r.Source) {
				one.Src = r.Source.AsSlice()
			}
		default:
			other, there := now.otherTo(r.To)
			if there {
				if !sameWay(other, r, m.index(r.Link)) {
					problems = append(problems, inside.Told(reason.Of(reason.RouteDiffers, reason.With{
						reason.What: r.To.String(), reason.Way: m.wayOf(other), reason.Via: r.Via.String(), reason.Link: r.Link,
					})))
				}
				continue // the machine's own stays
			}
			one.LinkIndex, one.Gw = m.index(r.Link), r.Via.AsSlice()
		}
		wanted[placedOf(one)] = one
	}
	have := map[placed]bool{}
	for _, r := range now.ours {
		p := placedOf(r)
		if _, ok := wanted[p]; ok && !have[p] {
			have[p] = true
			continue
		}
		if drifted = append(drifted, p.to.String()+" is not the plan's"); change {
			if e := netlink.RouteDel(&r); e != nil && !errors.Is(e, syscall.ESRCH) {
				err = errors.Join(err, e)
			}
		}
	}
	for p, r := range wanted {
		if have[p] {
			continue
		}
		if drifted = append(drifted, p.to.String()+" is missing"); change {
			if e := netlink.RouteAdd(&r); e != nil && !errors.Is(e, syscall.EEXIST) {
				problems = append(problems, inside.Told(reason.Of(reason.RouteNotTaken, reason.With{
					reason.What: p.to.String(), reason.Error: e.Error(),
				})))
			}
		}
	}
	return problems, drifted, err
}

// otherTo is somebody else's route to exactly a prefix, the best of them.
func (r *routes) otherTo(to netip.Prefix) (out netlink.Route, found bool) {
	for _, o := range r.others {
		if prefixOf(o.Dst) == to && (!found || o.Priority < out.Priority) {
			out, found = o, true
		}
	}
	return out, found
}

// othersWithin are somebody else's routes to a prefix or parts of it, and the one to a larger prefix is not among them.
func (r *routes) othersWithin(p netip.Prefix) (out []netlink.Route) {
	for _, o := range r.others {
		if to := prefixOf(o.Dst); to.Bits() >= p.Bits() && p.Contains(to.Addr()) {
			out = append(out, o)
		}
	}
	return out
}

func sameWay(o netlink.Route, r kernel.Route, link int) bool {
	a, ok := netip.AddrFromSlice(o.Gw)
	return ok && fold.Addr(a) == r.Via && o.LinkIndex == link
}

func (m *machine) index(name string) int {
	for _, l := range m.links {
		if l.name == name {
			return l.index
		}
	}
	return 0
}

// down tells whether a link is there, and down.
func (m *machine) down(name string) bool {
	return slices.ContainsFunc(m.links, func(l link) bool { return l.name == name && !l.up })
}

func (m *machine) nameOf(index int) string {
	for _, l := range m.links {
		if l.index == index {
			return l.name
		}
	}
	return "no link"
}

// wayOf says where a route leads.
func (m *machine) wayOf(r netlink.Route) string {
	switch {
	case r.Type == unix.RTN_UNREACHABLE || r.Type == unix.RTN_BLACKHOLE || r.Type == unix.RTN_PROHIBIT:
		return "nowhere"
	case r.Gw != nil:
		return "via " + r.Gw.String() + " dev " + m.nameOf(r.LinkIndex)
	}
	return "dev " + m.nameOf(r.LinkIndex)
}

// removeRoutes takes all of ours away.
func removeRoutes() error {
	now, err := lookRoutes()
	for _, r := range now.ours {
		if e := netlink.RouteDel(&r); e != nil && !errors.Is(e, syscall.ESRCH) {
			err = errors.Join(err, e)
		}
	}
	return err
}

func ipNet(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

func prefixOf(n *net.IPNet) netip.Prefix {
	a, _ := netip.AddrFromSlice(n.IP)
	bits, _ := n.Mask.Size()
	return netip.PrefixFrom(fold.Addr(a), bits).Masked()
}
