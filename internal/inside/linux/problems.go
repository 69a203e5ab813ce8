package linux

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/core/reason"
)

// able tells whether this process may do what the port needs.
func able() error {
	var head unix.CapUserHeader
	var data [2]unix.CapUserData
	head.Version = unix.LINUX_CAPABILITY_VERSION_3
	if err := unix.Capget(&head, &data[0]); err != nil {
		return err
	}
	if data[0].Effective&(1<<unix.CAP_NET_ADMIN) == 0 {
		return fmt.Errorf("this process may not change the machine's network: it needs the capability CAP_NET_ADMIN; start it as root, or as a system service that has it")
	}
	return nil
}

// missing is what a plan needs of the machine's links, and the machine does not have.
func (m *machine) missing(d inside.Desired) (out []inside.Problem) {
	tell := func(code reason.Code, with reason.With) { out = append(out, inside.Told(reason.Of(code, with))) }
	for _, at := range d.Attached {
		l := m.holding(at.Addresses)
		if l == nil {
			tell(reason.NotAttached, reason.With{
				reason.Addresses: words(at.Addresses), reason.Network: at.Network, reason.Setting: "gateways/" + d.Gateway + "/inside",
			})
			continue
		}
		if !l.up {
			tell(reason.LinkDown, reason.With{reason.Link: l.name, reason.Network: at.Network})
		}
	}
	if slices.ContainsFunc(d.Ways, func(w inside.Way) bool { return w.Network == inside.Internet }) {
		switch l := m.outside(d.Outside); {
		case l == nil:
			tell(reason.NoWayOut, reason.With{reason.Addresses: words(d.Outside), reason.Setting: "gateways/" + d.Gateway + "/outside"})
		case !l.up:
			tell(reason.LinkDown, reason.With{reason.Link: l.name, reason.Network: inside.Internet})
		}
	}
	return out
}

func words(addresses []netip.Addr) string {
	out := make([]string, len(addresses))
	for i, a := range addresses {
		out[i] = a.String()
	}
	return strings.Join(out, ", ")
}

// takenPools are prefixes of pools that the machine has routes to already.
func takenPools(m *machine, d inside.Desired) (out []inside.Problem) {
	now, err := lookRoutes()
	if err != nil {
		return nil
	}
	for _, p := range d.Pools {
		for _, x := range p.Prefixes {
			for _, o := range now.othersWithin(x) {
				out = append(out, inside.Told(reason.Of(reason.PoolTaken, reason.With{
					reason.What: prefixOf(o.Dst).String(), reason.Way: m.wayOf(o), reason.Pool: p.Name,
				})))
			}
		}
	}
	return out
}

// reverseFilters are links that take packets only from where they would send to by one route, though the plan knows several ways back.
func (m *machine) reverseFilters(d inside.Desired, l kernel.Links) (out []inside.Problem) {
	for _, r := range d.Routes {
		link := l.Of[r.Network]
		if !r.Spare || link == "" {
			continue
		}
		key := "net/ipv4/conf/" + link + "/rp_filter"
		one, _ := readSetting(key)
		all, _ := readSetting("net/ipv4/conf/all/rp_filter")
		if max(one, all) == "1" {
			out = append(out, inside.Told(reason.Of(reason.ReverseFilter, reason.With{
				reason.Setting: strings.ReplaceAll(key, "/", "."), reason.Network: r.To.String(), reason.Value: "2",
			})))
		}
	}
	return out
}

// changedIn says what of the table is not as it was made, by its fingerprint then and now: each chain and set, with how much of it is left.
func changedIn(made, now string) (out []string) {
	if now == "" {
		return []string{"table inet " + kernel.Table + " is gone"}
	}
	parts := func(text string) map[string]string {
		out := map[string]string{}
		for line := range strings.Lines(text) {
			name, of, _ := strings.Cut(strings.TrimSpace(line), ":")
			out[name] = of
		}
		return out
	}
	was, is := parts(made), parts(now)
	for _, name := range slices.Sorted(maps.Keys(was)) {
		of, there := is[name]
		switch {
		case !there:
			out = append(out, name+" is gone")
		case of != was[name]:
			kept := 0
			for one := range strings.SplitSeq(strings.TrimSuffix(was[name], ","), ",") {
				if one != "" && slices.Contains(strings.Split(of, ","), one) {
					kept++
				}
			}
			words := fmt.Sprintf("%s has %d of its %d", name, kept, strings.Count(was[name], ","))
			if added := strings.Count(of, ",") - kept; added > 0 {
				words += fmt.Sprintf(" and %d others", added)
			}
			out = append(out, words)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(is)) {
		if _, ours := was[name]; !ours {
			out = append(out, name+" is new")
		}
	}
	return out
}

// fingerprint is what the table is like just now, by the handles that the kernel gave its rules and by what is in its sets: whoever changes
// it by hand changes that.
func fingerprint() string {
	c, err := nftables.New()
	if err != nil {
		return ""
	}
	t, err := c.ListTableOfFamily(kernel.Table, nftables.TableFamilyINet)
	if err != nil {
		return ""
	}
	var b strings.Builder
	chains, err := c.ListChainsOfTableFamily(nftables.TableFamilyINet)
	if err != nil {
		return ""
	}
	for _, x := range chains {
		if x.Table.Name != kernel.Table {
			continue
		}
		rules, err := c.GetRules(t, x)
		if err != nil {
			return ""
		}
		fmt.Fprintf(&b, "chain %s:", x.Name)
		for _, r := range rules {
			fmt.Fprintf(&b, "%d,", r.Handle)
		}
		b.WriteByte('\n')
	}
	sets, err := c.GetSets(t)
	if err != nil {
		return ""
	}
	for _, s := range sets {
		all, err := c.GetSetElements(s)
		if err != nil {
			return ""
		}
		fmt.Fprintf(&b, "set %s:", s.Name)
		for _, e := range all {
			fmt.Fprintf(&b, "%x%v,", e.Key, e.IntervalEnd)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// others finds rules of other tables that stand in the way: translations before ours, and drops of what is forwarded.
func others(d inside.Desired, device string) (out []inside.Problem) {
	c, err := nftables.New()
	if err != nil {
		return nil
	}
	chains, err := c.ListChains()
	if err != nil {
		return nil
	}
	firewall := firewallOf(c)
	for _, x := range chains {
		if x.Table.Name == kernel.Table && x.Table.Family == nftables.TableFamilyINet || x.Hooknum == nil || x.Priority == nil {
			continue
		}
		rules, err := c.GetRules(x.Table, x)
		if err != nil {
			continue
		}
		place := fmt.Sprintf("table %s %s, chain %s (%s, priority %d)", familyName(x.Table.Family), x.Table.Name, x.Name, hookName(x),
			*x.Priority)
		early := x.Type == nftables.ChainTypeNAT && *x.Priority <= kernel.PriorityTranslation &&
			(*x.Hooknum == *nftables.ChainHookPostrouting || *x.Hooknum == *nftables.ChainHookPrerouting)
		passes := x.Type == nftables.ChainTypeFilter && *x.Hooknum == *nftables.ChainHookForward
		for _, r := range rules {
			if what, ok := translates(r); early && ok {
				out = append(out, inside.Told(reason.Of(reason.OthersTranslate, reason.With{
					reason.What: fmt.Sprintf("%s, handle %d: %s", place, r.Handle, what), reason.Addresses: d.People.String(),
				})))
			}
		}
		dropped := firewall.single(x, device)
		if x.Type == nftables.ChainTypeFilter && *x.Hooknum == *nftables.ChainHookInput {
			for _, port := range []uint16{500, 4500} {
				if drops, by := firewall.drops(x, arriving{proto: unix.IPPROTO_UDP, port: port}); drops {
					dropped = append(dropped, fmt.Sprintf("udp/%d (%s)", port, ruleName(by)))
				}
			}
		}
		if len(dropped) > 0 {
			out = append(out, inside.Told(reason.Of(reason.OthersRefuse, reason.With{
				reason.What: place, reason.Service: strings.Join(dropped, ", "),
			})))
		}
		if drops := x.Policy != nil && *x.Policy == nftables.ChainPolicyDrop; passes && drops && !mentions(rules, device) {
			out = append(out, inside.Told(reason.Of(reason.OthersDrop, reason.With{
				reason.What: place + ", which drops what it does not let through", reason.Link: device, reason.Addresses: d.People.String(),
			})))
		}
	}
	return out
}

// single says what people open that single rules of a base chain of others drop, where it is about what is forwarded: of ports that the
// chain names itself, for what the rest of it does is told of the whole chain.
func (f firewall) single(c *nftables.Chain, device string) (out []string) {
	if c.Type != nftables.ChainTypeFilter || *c.Hooknum != *nftables.ChainHookForward {
		return nil
	}
	for _, p := range f.named(c) {
		p.by = device
		if drops, by := f.drops(c, p); drops && by != nil && !final(by) {
			name := map[byte]string{unix.IPPROTO_TCP: "tcp", unix.IPPROTO_UDP: "udp"}[p.proto]
			out = append(out, fmt.Sprintf("%s/%d (%s)", name, p.port, ruleName(by)))
		}
	}
	return out
}

func ruleName(r *nftables.Rule) string {
	if r == nil {
		return "by its policy"
	}
	return fmt.Sprintf("rule with handle %d in chain %s", r.Handle, r.Chain.Name)
}

// translates tells whether a rule translates, and how.
func translates(r *nftables.Rule) (string, bool) {
	for _, e := range r.Exprs {
		switch x := e.(type) {
		case *expr.Masq:
			return "masquerade", true
		case *expr.NAT:
			if x.Type == expr.NATTypeDestNAT {
				return "destination translation", true
			}
			return "source translation", true
		case *expr.Redir:
			return "redirect", true
		}
	}
	return "", false
}

// mentions tells whether some rule looks at a link by its name.
func mentions(rules []*nftables.Rule, device string) bool {
	for _, r := range rules {
		for _, e := range r.Exprs {
			if c, ok := e.(*expr.Cmp); ok && strings.HasPrefix(string(c.Data), device) {
				return true
			}
		}
	}
	return false
}

func familyName(f nftables.TableFamily) string {
	switch f {
	case nftables.TableFamilyINet:
		return "inet"
	case nftables.TableFamilyIPv6:
		return "ip6"
	case nftables.TableFamilyIPv4:
		return "ip"
	}
	return fmt.Sprint(f)
}

func hookName(c *nftables.Chain) string {
	switch *c.Hooknum {
	case *nftables.ChainHookPrerouting:
		return "prerouting"
	case *nftables.ChainHookForward:
		return "forward"
	case *nftables.ChainHookPostrouting:
		return "postrouting"
	case *nftables.ChainHookInput:
		return "input"
	}
	return "output"
}
