package connection

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"net/netip"
	"os"
	"slices"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/underlay"
)

// The machine's routes stay as they are. What goes into the tunnel stands in a table of its own, which is asked before the main one; what
// the main one knows better than by a default route is passed on to it, so that the longest prefix decides among both. What goes to the
// gateway itself is looked up in the main table alone.
const (
	rulesFrom   = 21_000 // preferences of our rules, two for each connection
	protocol    = 222    // of our routes
	metricOurs  = 100
	metricShut  = 4_000_000
	metricOther = 10
)

// machine is what a connection does to the machine.
type machine struct {
	o      Options
	device string
	slot   int // of several connections: which rules and table are this one's
	found  []netip.Addr
	before resolver // how names were asked for
	given  *dial.Given
	rules  []netlink.Rule
	seen   string // the main table as it was when we looked
	fits   int    // the largest packet that the way carries, in octets; 0: as the kit says
}

func newMachine(o Options, device string) (*machine, error) {
	h := fnv.New32a()
	_, _ = h.Write([]byte(o.Name))
	m := &machine{o: o, device: device, slot: int(h.Sum32() % 400)}
	var err error
	m.before, err = readResolver()
	return m, err
}

func (m *machine) table() int { return 42_000 + m.slot }

// resolve asks the name servers that the machine had before.
func (m *machine) resolve(ctx context.Context, name string) ([]netip.Addr, error) {
	if m.given == nil || len(m.before.servers) == 0 {
		return underlay.Host().Resolve(ctx, name)
	}
	return underlay.Resolve(ctx, underlay.Host().DialUDP, m.before.servers, name)
}

// use makes the machine send into the tunnel what the gateway takes.
func (m *machine) use(g dial.Given, gateways []netip.Addr) error {
	m.given, m.found = &g, gateways
	link, err := netlink.LinkByName(m.device)
	if err != nil {
		return err
	}
	m.fits = 0 // of the way before
	_ = os.WriteFile("/proc/sys/net/ipv6/conf/"+m.device+"/addr_gen_mode", []byte("1"), 0o644)
	if err := errors.Join(netlink.LinkSetMTU(link, m.mtu()), netlink.LinkSetUp(link)); err != nil {
		return err
	}
	if err := m.addresses(link, g.Addresses); err != nil {
		return err
	}
	if err := m.save(); err != nil { // before what outlives us
		return err
	}
	if err := errors.Join(m.applyRules(gateways), m.routes(), m.forwardFor(g.Addresses)); err != nil {
		return err
	}
	return m.names(g)
}

// mtu is the device's, in octets. A link with IPv6 carries 1280 at least (RFC 8200 §5): below that only routes of IPv4 say what fits.
func (m *machine) mtu() int {
	mtu := cmp.Or(m.o.Login.MTU, mtuDefault)
	if m.fits > 0 {
		mtu = min(mtu, m.fits)
	}
	if slices.ContainsFunc(m.given.Addresses, func(a netip.Addr) bool { return a.Is6() }) {
		mtu = max(mtu, mtuLeast)
	}
	return mtu
}

const mtuLeast = 1280

// fit makes the machine send no larger packets into the tunnel than the way carries.
func (m *machine) fit(octets int) error {
	link, err := netlink.LinkByName(m.device)
	if err != nil {
		return err
	}
	m.fits = octets
	return errors.Join(netlink.LinkSetMTU(link, m.mtu()), m.routes())
}

func (m *machine) addresses(link netlink.Link, want []netip.Addr) error {
	now, err := netlink.AddrList(link, netlink.FAMILY_ALL)
	if err != nil {
		return err
	}
	for _, a := range now {
		ip, _ := netip.AddrFromSlice(a.IP)
		if ip = fold.Addr(ip); !slices.Contains(want, ip) && !ip.IsLinkLocalUnicast() {
			_ = netlink.AddrDel(link, &a)
		}
	}
	for _, a := range want {
		one := &netlink.Addr{
			IPNet: &net.IPNet{IP: a.AsSlice(), Mask: net.CIDRMask(a.BitLen(), a.BitLen())},
			Flags: unix.IFA_F_NOPREFIXROUTE,
		}
		if a.Is6() {
			one.Flags |= unix.IFA_F_NODAD
		}
		if err := netlink.AddrReplace(link, one); err != nil {
			return fmt.Errorf("address %s: %w", a, err)
		}
	}
	return nil
}

// applyRules makes the rules that lead to our table, and keep what goes to the gateway out of it.
func (m *machine) applyRules(gateways []netip.Addr) error {
	if err := m.dropRules(); err != nil {
		return err
	}
	for _, gw := range gateways {
		r := netlink.NewRule()
		r.Family, r.Priority, r.Table = familyOf(gw), rulesFrom+2*m.slot, unix.RT_TABLE_MAIN
		r.Dst = &net.IPNet{IP: gw.AsSlice(), Mask: net.CIDRMask(gw.BitLen(), gw.BitLen())}
		if err := m.addRule(r); err != nil {
			return err
		}
	}
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		r := netlink.NewRule()
		r.Family, r.Priority, r.Table = family, rulesFrom+2*m.slot+1, m.table()
		if err := m.addRule(r); err != nil {
			return err
		}
	}
	return nil
}

func (m *machine) addRule(r *netlink.Rule) error {
	if err := netlink.RuleAdd(r); err != nil && !errors.Is(err, syscall.EEXIST) {
		return fmt.Errorf("rule of the routing policy: %w", err)
	}
	m.rules = append(m.rules, *r)
	return nil
}

func (m *machine) dropRules() error {
	m.rules = nil
	return dropRules(m.slot)
}

// dropRules takes a connection's rules away.
func dropRules(slot int) error {
	var err error
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		all, e := netlink.RuleList(family)
		if e != nil {
			continue // a kernel without IPv6
		}
		for _, r := range all {
			if r.Priority == rulesFrom+2*slot || r.Priority == rulesFrom+2*slot+1 {
				if r.Family = family; netlink.RuleDel(&r) != nil {
					err = errors.Join(err, e)
				}
			}
		}
	}
	return err
}

// routes fills our table: what goes into the tunnel, and what the main table knows better.
func (m *machine) routes() error {
	link, err := netlink.LinkByName(m.device)
	if err != nil {
		return err
	}
	want := []netlink.Route{}
	add := func(p netip.Prefix, metric, kind, index int) {
		r := netlink.Route{
			Dst: &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}, Table: m.table(), Protocol: protocol, Priority: metric,
			Type: kind, LinkIndex: index, Family: familyOf(p.Addr()),
		}
		if p.Addr().Is4() && kind == unix.RTN_UNICAST && m.fits > 0 && m.fits < mtuLeast && metric == metricOurs {
			r.MTU = m.fits
		}
		want = append(want, r)
	}
	inTunnel := m.given.Routes.Prefixes()
	if m.given.Full {
		inTunnel = []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)}
	}
	for _, p := range inTunnel {
		has := slices.ContainsFunc(m.given.Addresses, func(a netip.Addr) bool { return a.Is4() == p.Addr().Is4() })
		switch {
		case has:
			add(p, metricOurs, unix.RTN_UNICAST, link.Attrs().Index)
		case m.given.Full: // a tunnel without IPv6 must not let it go past
			add(p, metricOurs, unix.RTN_UNREACHABLE, 0)
		}
		if has && m.o.Strict {
			add(p, metricShut, unix.RTN_UNREACHABLE, 0)
		}
	}
	m.seen = mainTable()
	for _, p := range mainPrefixes() {
		add(p, metricOther, unix.RTN_THROW, 0)
	}
	return m.replaceTable(want)
}

func (m *machine) replaceTable(want []netlink.Route) error {
	var errs error
	for i := range want {
		r := &want[i]
		if err := netlink.RouteReplace(r); err != nil {
			errs = errors.Join(errs, fmt.Errorf("route to %s: %w", r.Dst, err))
		}
	}
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		now, err := netlink.RouteListFiltered(family, &netlink.Route{Table: m.table()}, netlink.RT_FILTER_TABLE)
		if err != nil {
			continue
		}
		for _, r := range now {
			if !slices.ContainsFunc(want, func(w netlink.Route) bool {
				return w.Family == family && sameNet(w.Dst, r.Dst) && w.Priority == r.Priority
			}) {
				_ = netlink.RouteDel(&r)
			}
		}
	}
	return errs
}

func sameNet(a, b *net.IPNet) bool {
	bits := func(n *net.IPNet) string {
		if n == nil {
			return "0"
		}
		if ones, _ := n.Mask.Size(); ones == 0 {
			return "0"
		}
		return n.String()
	}
	return bits(a) == bits(b)
}

// mainPrefixes are those of the main table that are no default routes.
func mainPrefixes() (out []netip.Prefix) {
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		all, err := netlink.RouteListFiltered(family, &netlink.Route{Table: unix.RT_TABLE_MAIN}, netlink.RT_FILTER_TABLE)
		if err != nil {
			continue
		}
		for _, r := range all {
			if r.Dst == nil {
				continue
			}
			a, ok := netip.AddrFromSlice(r.Dst.IP)
			bits, _ := r.Dst.Mask.Size()
			if p := netip.PrefixFrom(fold.Addr(a), bits); ok && bits > 0 && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out
}

// onLinks are the networks that this host is on, by its addresses on every link but one.
func onLinks(but string) (out []netip.Prefix) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil
	}
	for _, l := range links {
		all, err := netlink.AddrList(l, netlink.FAMILY_ALL)
		if err != nil || l.Attrs().Name == but {
			continue
		}
		for _, a := range all {
			ip, ok := netip.AddrFromSlice(a.IP)
			bits, _ := a.Mask.Size()
			if ip = fold.Addr(ip); ok && !ip.IsLinkLocalUnicast() && !ip.IsLoopback() {
				out = append(out, netip.PrefixFrom(ip, bits).Masked())
			}
		}
	}
	return out
}

func mainTable() string { return fmt.Sprint(mainPrefixes()) }

// changed tells whether the main table is another one since our table was made.
func (m *machine) changed() bool { return m.given != nil && mainTable() != m.seen }

func familyOf(a netip.Addr) int {
	if a.Is4() {
		return netlink.FAMILY_V4
	}
	return netlink.FAMILY_V6
}

// restore takes everything of ours away.
func (m *machine) restore() error {
	return undo(saved{Slot: m.slot, Resolver: m.before.text, Changed: m.given != nil, Name: m.o.Name})
}

// undo takes away what a connection left, its device apart, which goes with the process.
func undo(s saved) error {
	err := dropRules(s.Slot)
	for _, family := range []int{netlink.FAMILY_V4, netlink.FAMILY_V6} {
		now, e := netlink.RouteListFiltered(family, &netlink.Route{Table: 42_000 + s.Slot}, netlink.RT_FILTER_TABLE)
		if e != nil {
			continue
		}
		for _, r := range now {
			_ = netlink.RouteDel(&r)
		}
	}
	if s.Changed {
		err = errors.Join(err, resolver{text: s.Resolver}.put(s.Name))
	}
	err = errors.Join(err, stopForwarding(s.Name))
	if e := os.Remove(savedAt(s.Name)); e != nil && !errors.Is(e, os.ErrNotExist) {
		err = errors.Join(err, e)
	}
	return err
}
