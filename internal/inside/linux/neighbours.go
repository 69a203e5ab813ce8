package linux

import (
	"net/netip"

	"github.com/vishvananda/netlink"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
)

// Answer lets the kernel answer, or no longer, for a person's address on the network that it lies on.
func (p *Port) Answer(addr netip.Addr, on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.answer(addr, on)
}

// answer does so. p.mu is held.
func (p *Port) answer(addr netip.Addr, on bool) {
	m, err := look(p.device)
	if err != nil || p.want == nil {
		return
	}
	l := m.linkOf(addr)
	if l == nil {
		if on {
			p.observed.Problems = append(p.observed.Problems, inside.Told(reason.Of(reason.AnswersNowhere, reason.With{
				reason.Addresses: addr.String(),
			})))
		}
		return
	}
	family := netlink.FAMILY_V4
	if addr.Is6() {
		family = netlink.FAMILY_V6
	}
	entry := &netlink.Neigh{LinkIndex: l.index, Family: family, Flags: netlink.NTF_PROXY, IP: addr.AsSlice()}
	if !on {
		delete(p.answers, addr)
		_ = netlink.NeighDel(entry)
		return
	}
	// Without these the kernel answers late, or for IPv6 not at all.
	version := "ipv4"
	settings := []setting{}
	if addr.Is6() {
		version = "ipv6"
		settings = append(settings, setting{"net/ipv6/conf/" + l.name + "/proxy_ndp", is("1"), "1", reason.AnswersHeldBack, false})
	}
	delay := "net/" + version + "/neigh/" + l.name + "/proxy_delay"
	settings = append(settings, setting{delay, is("0"), "0", reason.AnswersHeldBack, false})
	told, _ := p.was.change(settings, p.want.MayChange)
	p.observed.Problems = append(p.observed.Problems, told...)
	if err := netlink.NeighSet(entry); err != nil {
		p.log.Warn("the kernel does not answer for a person's address", "address", addr, "error", err)
		return
	}
	p.answers[addr] = true
	announce(l, addr)
}

// linkOf is the link with the network that an address lies on.
func (m *machine) linkOf(a netip.Addr) *link {
	for i := range m.links {
		for _, p := range m.links[i].prefixes {
			if p.Masked().Contains(a) && !p.Addr().IsLoopback() {
				return &m.links[i]
			}
		}
	}
	return nil
}
