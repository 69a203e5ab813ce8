package linux

import (
	"net"
	"net/netip"
	"slices"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/core/netset"
)

// machine is what the kernel says of its links just now.
type machine struct {
	links []link
	own   netset.Addrs // every address that is the machine's, or that it takes for everybody on a link
}

// link is a link with its addresses.
type link struct {
	name     string
	index    int
	up       bool
	mtu      int
	prefixes []netip.Prefix // address with the length of its network
	defaults [2]bool        // it has a default route, by family: IPv4, IPv6
}

// look reads it.
func look(device string) (machine, error) {
	var m machine
	all, err := netlink.LinkList()
	if err != nil {
		return m, err
	}
	var own []netip.Addr
	for _, l := range all {
		a := l.Attrs()
		one := link{name: a.Name, index: a.Index, up: a.Flags&net.FlagUp != 0 && a.OperState != netlink.OperDown &&
			a.OperState != netlink.OperLowerLayerDown, mtu: a.MTU}
		addrs, err := netlink.AddrList(l, netlink.FAMILY_ALL)
		if err != nil {
			continue // it is gone already
		}
		for _, x := range addrs {
			ip, ok := netip.AddrFromSlice(x.IP)
			if !ok {
				continue
			}
			ip = fold.Addr(ip)
			bits, _ := x.Mask.Size()
			one.prefixes = append(one.prefixes, netip.PrefixFrom(ip, bits))
			if own = append(own, ip); ip.Is4() && bits < 31 {
				own = append(own, netset.Last(netip.PrefixFrom(ip, bits))) // broadcast
			}
		}
		if one.name != device {
			m.links = append(m.links, one)
		}
	}
	m.own = netset.OfAddrs(own...)
	for i, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		routes, err := netlink.RouteListFiltered(family, &netlink.Route{Table: unix.RT_TABLE_MAIN}, netlink.RT_FILTER_TABLE)
		if err != nil {
			return m, err
		}
		for _, r := range routes {
			if ones := defaultRoute(r); !ones {
				continue
			}
			for k := range m.links {
				if m.links[k].index == r.LinkIndex {
					m.links[k].defaults[i] = true
				}
			}
		}
	}
	return m, nil
}

func defaultRoute(r netlink.Route) bool {
	if r.Dst == nil {
		return r.Type == 0 || r.Type == unix.RTN_UNICAST
	}
	ones, _ := r.Dst.Mask.Size()
	return ones == 0 && (r.Type == 0 || r.Type == unix.RTN_UNICAST)
}

// holding is the link that has one of some addresses.
func (m *machine) holding(addresses []netip.Addr) *link {
	for _, a := range addresses {
		for i := range m.links {
			if slices.ContainsFunc(m.links[i].prefixes, func(p netip.Prefix) bool { return p.Addr() == a }) {
				return &m.links[i]
			}
		}
	}
	return nil
}

// within is the link that has an address within one of some networks.
func (m *machine) within(networks []netip.Prefix) *link {
	for _, n := range networks {
		for i := range m.links {
			if slices.ContainsFunc(m.links[i].prefixes, func(p netip.Prefix) bool { return n.Contains(p.Addr()) }) {
				return &m.links[i]
			}
		}
	}
	return nil
}

// outside is the link towards the internet: that of the plan's outside addresses, or of the default route.
func (m *machine) outside(addresses []netip.Addr) *link {
	if l := m.holding(addresses); l != nil {
		return l
	}
	for family := range 2 {
		for i := range m.links {
			if m.links[i].defaults[family] {
				return &m.links[i]
			}
		}
	}
	return nil
}

// assign finds the link of each way of a plan.
func (m *machine) assign(d inside.Desired, device string) kernel.Links {
	l := kernel.Links{Device: device, Of: map[string]string{}}
	for _, at := range d.Attached {
		one := m.holding(at.Addresses)
		if one == nil {
			one = m.within(at.Prefixes)
		}
		if one != nil {
			l.Of[at.Network] = one.name
		}
	}
	if one := m.outside(d.Outside); one != nil {
		l.Of[inside.Internet] = one.name
	}
	return l
}
