package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// returns is what of the return station is the same for every source, so that the set of one source costs what is different about it.
type returns struct {
	groups []returning
	always [2]netset.Addrs // networks whose router is the gateway: what they send comes to it, and is believed
	of     map[*plan.Network][]cell
	at     map[netip.Prefix][]*plan.Network // networks, by their prefixes
	bits   [2][]int                         // lengths that these have
	known  sync.Map                         // sets that were made, by what they are made of
}

// returning is stretches of one family from which answers go to the same router, and to which the gateway's routes lead by the same links.
type returning struct {
	internet bool
	router   string
	links    []string
	v6       bool
	spans    []netset.Span
	set      netset.Addrs
}

func familyIndex(a netip.Addr) int {
	if a.Is4() {
		return 0
	}
	return 1
}

func (m *Model) compileReturns() {
	r := &m.returns
	r.of, r.at = map[*plan.Network][]cell{}, map[netip.Prefix][]*plan.Network{}
	var always [2][]netset.Span
	index := map[string]int{}
	for _, c := range m.cells {
		links := m.links(c.span.From)
		g := returning{internet: c.network == nil, links: links, v6: !c.span.From.Is4()}
		if c.network != nil {
			r.of[c.network] = append(r.of[c.network], c)
			if g.router = c.network.Router; g.router == "" {
				continue // its hosts know no way to anybody elsewhere
			}
			if d := m.devices[g.router]; d != nil && d.gateway {
				if m.leads(c.span.From, c.network.Name) {
					f := familyIndex(c.span.From)
					always[f] = append(always[f], c.span)
				}
				continue
			}
		}
		key := fmt.Sprintf("%v %v %q %q", g.internet, g.v6, g.router, links)
		i, known := index[key]
		if !known {
			i = len(r.groups)
			index[key] = i
			r.groups = append(r.groups, g)
		}
		r.groups[i].spans = append(r.groups[i].spans, c.span)
	}
	for i := range r.groups {
		r.groups[i].set = netset.OfSpans(r.groups[i].spans...)
		r.groups[i].spans = nil
	}
	for f := range always {
		r.always[f] = netset.OfSpans(always[f]...)
	}
	seen := [2]map[int]bool{{}, {}}
	for i := range m.Plan.Networks {
		n := &m.Plan.Networks[i]
		for _, p := range n.Prefixes {
			f := familyIndex(p.Addr())
			if r.at[p.Masked()] = append(r.at[p.Masked()], n); !seen[f][p.Bits()] {
				seen[f][p.Bits()] = true
				r.bits[f] = append(r.bits[f], p.Bits())
			}
		}
	}
}

// holding are the networks that hold an address: their hosts look for it on their own link.
func (r *returns) holding(a netip.Addr) (out []*plan.Network) {
	for _, bits := range r.bits[familyIndex(a)] {
		if p, err := a.Prefix(bits); err == nil {
			out = append(out, r.at[p]...)
		}
	}
	return out
}

// ReturnSet is the destinations from which an answer to src finds its way back.
func (m *Model) ReturnSet(src netip.Addr) netset.Addrs {
	r := &m.returns
	var key strings.Builder
	fmt.Fprint(&key, src.Is4())
	backs := map[string]came{}
	var from []int
	for i := range r.groups {
		g := &r.groups[i]
		if g.v6 == src.Is4() {
			continue
		}
		back, known := came{}, false
		if g.internet {
			back = m.backFromInternet(src)
		} else if back, known = backs[g.router]; !known {
			back = m.backVia(g.router, "", src, "")
			backs[g.router] = back
		}
		if back.OK && slices.Contains(g.links, back.by) {
			from = append(from, i)
			fmt.Fprint(&key, " ", i)
		}
	}
	type own struct {
		cells []cell
		back  came
	}
	var owns []own
	for _, n := range r.holding(src) {
		back := m.backFrom(n, src)
		owns = append(owns, own{r.of[n], back})
		fmt.Fprintf(&key, " %q %v %q", n.Name, back.OK, back.by)
	}
	if known, ok := r.known.Load(key.String()); ok {
		return known.(netset.Addrs)
	}
	spans := append(netset.Addrs{}, r.always[familyIndex(src)]...)
	for _, i := range from {
		spans = append(spans, r.groups[i].set...)
	}
	set := netset.OfSpans(spans...)
	for _, o := range owns {
		var its, come []netset.Span
		for _, c := range o.cells {
			if c.span.From.Is4() != src.Is4() {
				continue
			}
			its = append(its, c.span)
			if o.back.OK && m.leads(c.span.From, o.back.by) {
				come = append(come, c.span)
			}
		}
		set = set.Subtract(netset.OfSpans(its...)).Union(netset.OfSpans(come...))
	}
	known, _ := r.known.LoadOrStore(key.String(), set.Union(m.own))
	return known.(netset.Addrs)
}
