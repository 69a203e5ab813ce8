// Package kernel works out what a plan makes of a Linux kernel: routes, one table of packet-filter rules, settings. They are values, which
// can be shown, compared and held against docs/semantics.md; whoever applies them reads nothing of the plan.
package kernel

import (
	"net/netip"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
)

// Table is the name of the one table of rules, of family inet.
const Table = "yellow-lantern"

// Protocol is the number that our routes carry (rtnetlink(7), rtm_protocol): of those that nobody else uses.
const Protocol = 221

// Metrics of our routes. The spare one stays when the device goes away, so that what is for people never takes another way.
const (
	MetricTunnel = 50
	MetricSpare  = 4_000_000
	MetricInside = 60
)

// Links are the names of the machine's links: the tunnel device, and the one of each way out.
type Links struct {
	Device string
	Of     map[string]string // by network, or inside.Internet
	// Guard keeps everything from being forwarded that neither comes from people nor goes to them, but for what the plan translates: the
	// machine forwarded nothing before.
	Guard bool
	// Timeouts tells whether the kernel can be told how long to remember flows.
	Timeouts bool
}

// Route is a route of ours.
type Route struct {
	To          netip.Prefix
	Via         netip.Addr // not valid: none
	Link        string
	Unreachable bool
	Metric      int
	MTU         int        // 0: the link's
	Source      netip.Addr // that the machine itself uses; not valid: any
}

// State is all of it.
type State struct {
	Routes []Route
	Table  Rules
	// Forwards are the links that must forward what comes in by them, Sixth tells whether IPv6 must be forwarded at all.
	Forwards []string
	Sixth    bool
}

// Of works it out.
func Of(d inside.Desired, l Links) State {
	s := State{Table: rules(d, l)}
	first := func(v4 bool) netip.Addr {
		for _, at := range d.Attached {
			for _, a := range at.Addresses {
				if a.Is4() == v4 {
					return a
				}
			}
		}
		return netip.Addr{}
	}
	for _, p := range d.Pools {
		for _, to := range p.Prefixes {
			s.Sixth = s.Sixth || to.Addr().Is6()
			s.Routes = append(s.Routes,
				Route{To: to, Link: l.Device, Metric: MetricTunnel, MTU: p.MTU, Source: first(to.Addr().Is4())},
				Route{To: to, Unreachable: true, Metric: MetricSpare})
		}
	}
	for _, r := range d.Routes {
		if d.People.Covers(netset.OfPrefixes(r.To)) {
			continue // what is people's goes to them, whatever is routed within
		}
		if link := l.Of[r.Network]; link != "" && !r.Spare {
			s.Routes = append(s.Routes, Route{To: r.To, Via: r.Via, Link: link, Metric: MetricInside})
		}
	}
	s.Forwards = []string{l.Device}
	seen := map[string]bool{}
	for _, w := range d.Ways {
		if link := l.Of[w.Network]; link != "" && !seen[link] {
			seen[link] = true
			s.Forwards = append(s.Forwards, link)
		}
	}
	return s
}
