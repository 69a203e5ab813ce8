package linux

import (
	"maps"
	"slices"
	"strconv"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
)

// counted is what the machine's links and connections have counted. p.mu is held.
func (p *Port) counted() *inside.Machine {
	out := &inside.Machine{Links: []inside.Link{}, Lost: maps.Clone(p.lost)}
	for chain, n := range lostByRules() {
		out.Lost[chain] += n
	}
	read := func(name string) int {
		text, _ := readSetting("net/netfilter/" + name)
		n, _ := strconv.Atoi(text)
		return n
	}
	out.Connections, out.Most = read("nf_conntrack_count"), read("nf_conntrack_max")
	ways := map[string][]string{p.device: {inside.Tunnels}}
	if p.want != nil {
		if m, err := look(p.device); err == nil {
			for network, link := range m.assign(*p.want, p.device).Of {
				ways[link] = append(ways[link], network)
			}
		}
	}
	all, err := netlink.LinkList()
	if err != nil {
		return out
	}
	for _, l := range all {
		a := l.Attrs()
		of := ways[a.Name]
		if of == nil || a.Statistics == nil {
			continue
		}
		slices.Sort(of)
		s := a.Statistics
		out.Links = append(out.Links, inside.Link{
			Name: a.Name, Ways: of, Up: a.Flags&1 != 0 && a.OperState != netlink.OperDown,
			Received: inside.Carried{Packets: s.RxPackets, Octets: s.RxBytes, Lost: s.RxDropped + s.RxErrors},
			Sent:     inside.Carried{Packets: s.TxPackets, Octets: s.TxBytes, Lost: s.TxDropped + s.TxErrors},
		})
	}
	return out
}

// lostByRules is how many packets each chain of our table has lost since it was made.
func lostByRules() map[string]uint64 {
	out := map[string]uint64{}
	c, err := nftables.New()
	if err != nil {
		return out
	}
	chains, err := c.ListChainsOfTableFamily(nftables.TableFamilyINet)
	if err != nil {
		return out
	}
	for _, x := range chains {
		if x.Table.Name != kernel.Table {
			continue
		}
		rules, err := c.GetRules(x.Table, x)
		if err != nil {
			continue
		}
		for _, r := range rules { // only what loses counts
			for _, e := range r.Exprs {
				if n, ok := e.(*expr.Counter); ok && n.Packets > 0 {
					out[x.Name] += n.Packets
				}
			}
		}
	}
	return out
}

// keepLost remembers what the table has counted, before another takes its place. p.mu is held.
func (p *Port) keepLost() {
	for chain, n := range lostByRules() {
		p.lost[chain] += n
	}
}
