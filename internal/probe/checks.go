package probe

import (
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/underlay"
)

// Check is one thing that a device is given, or that its tunnel must do, apart from what is reached.
type Check struct {
	Name  string `json:"name"`
	OK    bool   `json:"ok"`
	Words string `json:"words"`
}

// check measures what the tunnel carries, and compares it and what the gateway gave with what the plan says.
func (r *Report) check(ctx context.Context, t *Tunnel, o Order) {
	r.checkGiven(o)
	r.measure(ctx, t, o)
	r.checkSize(o)
}

func (r *Report) add(name string, ok bool, good, bad string, args ...any) {
	words := good
	if !ok {
		words = fmt.Sprintf(bad, args...)
	}
	r.Checks = append(r.Checks, Check{name, ok, words})
}

// checkGiven compares what the gateway gave with what the plan says.
func (r *Report) checkGiven(o Order) {
	g := r.Given
	if pool := parsePrefixes(o.Pool); len(o.Pool) > 0 {
		stray := slices.IndexFunc(g.Addresses, func(a netip.Addr) bool { return !pool.Contains(a) })
		r.add("addresses", stray < 0, "from the pool: "+addrList(g.Addresses), "station admission: %s is not of the pool that the plan says (passages/%s/pool)", addrList(g.Addresses), o.Passage)
	}
	r.add("name servers", slices.Equal(g.DNS, o.DNS), "as planned: "+orNone(addrList(g.DNS)), "station names: given %s, planned %s (passages/%s/dns/servers)", orNone(addrList(g.DNS)), orNone(addrList(o.DNS)), o.Passage)
	r.add("domains", slices.Equal(g.Domains, o.Domains), "as planned: "+orNone(strings.Join(g.Domains, ", ")), "station names: given %s, planned %s (passages/%s/dns)", orNone(strings.Join(g.Domains, ", ")), orNone(strings.Join(o.Domains, ", ")), o.Passage)
	r.add("kind of routes", g.Full == o.Full, map[bool]string{true: "full tunnel, as planned", false: "split tunnel, as planned"}[o.Full], "station device: the tunnel is %s, planned otherwise (passages/%s/routes)", map[bool]string{true: "full", false: "split"}[g.Full], o.Passage)
	r.seenFrom(o)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func parsePrefixes(texts []string) (out netset.Addrs) {
	for _, text := range texts {
		if p, err := netip.ParsePrefix(text); err == nil {
			out = out.Union(netset.OfPrefixes(p))
		}
	}
	return out
}

const (
	leastMTU  = 576
	sizedPing = 900 * time.Millisecond
)

// measure finds the largest packet that passes, up to what the tunnel should carry, by somebody who answered a ping.
func (r *Report) measure(ctx context.Context, t *Tunnel, o Order) {
	i := slices.IndexFunc(r.Results, func(x Result) bool {
		return x.Want && x.Seen.Served && x.Home == "" && x.Seen.Among(reason.PingAnswered)
	})
	if i < 0 || o.MTU == 0 {
		return
	}
	dst := r.Results[i].Dst
	passes := func(size int) bool {
		bounded, cancel := context.WithTimeout(ctx, sizedPing)
		defer cancel()
		_, err := t.Stack.PingSized(bounded, dst, size, t.Send)
		return err == nil
	}
	if passes(o.MTU) {
		r.Largest = o.MTU
	} else if low, high := leastMTU, o.MTU; passes(low) {
		for high-low > 1 {
			if middle := (low + high) / 2; passes(middle) {
				low = middle
			} else {
				high = middle
			}
		}
		r.Largest = low
	} // otherwise it does not answer any more
}

// checkSize compares the largest packet that passed with what the tunnel is for.
func (r *Report) checkSize(o Order) {
	if r.Largest == 0 {
		return
	}
	fix := fmt.Sprintf("set tunnels/%s/mtu to %d", o.Tunnel, r.Largest)
	if r.Largest < 1280 {
		fix = "this network carries less than IPv6 asks for (1280 octets); ask whoever runs it"
	}
	r.add("largest packet", r.Largest >= o.MTU, fmt.Sprintf("%d octets, all that the tunnel is for", o.MTU),
		"station size: packets inside the tunnel of more than %d octets are lost from here, and the tunnel lets %d through: connections open and large pages hang; %s", r.Largest, o.MTU, fix)
}

var anAddress = regexp.MustCompile(`\[?[0-9a-fA-F:.]*[0-9a-fA-F][:.][]0-9a-fA-F:.]+[0-9a-fA-F]`)

// seenFrom looks, with a full tunnel, at what a page on the internet says of where its visitor comes from: a page whose first line has
// one address in it.
func (r *Report) seenFrom(o Order) {
	if !o.Full || len(o.Outside) == 0 {
		return
	}
	for _, x := range r.Results {
		if !x.Want || x.Network != "" || x.Home != "" {
			continue
		}
		if found := addressesIn(x.Seen.With[reason.Page]); len(found) == 1 {
			r.add("address on the internet", slices.Contains(o.Outside, found[0]), "the internet sees the gateway: "+found[0].String(),
				"station translation: with a full tunnel the internet sees %s, which is not the gateway's %s (nat, gateways/…/outside)", found[0], addrList(o.Outside))
			return
		}
	}
}

func addressesIn(text string) (out []netip.Addr) {
	for _, word := range anAddress.FindAllString(text, -1) {
		a, err := netip.ParseAddr(word)
		if ap, errPort := netip.ParseAddrPort(word); errPort == nil {
			a, err = ap.Addr(), nil
		}
		if err == nil {
			out = append(out, a)
		}
	}
	return out
}

// fromInside tells whether the device is on the gateway's own machine or network, from where a trial proves nothing of the way in.
func fromInside(u underlay.Underlay, o Order) bool {
	return slices.ContainsFunc(o.Inside, func(p netip.Prefix) bool {
		own := u.Address(p.Addr())
		return own.IsValid() && p.Contains(own) && u.Name() == underlay.Host().Name()
	})
}

// atGateway tells whether a probe runs on the gateway host itself, and gives an address by which it reaches the gateway there: the public
// one may be another router's, or a name that this host cannot look up. From there most of what is behind the tunnel answers without it, so
// everything is sent by the tunnel: through the gateway, its kernel, and back by the way that the site knows.
func atGateway(u underlay.Underlay, o Order) netip.Addr {
	for _, a := range slices.Concat(o.Outside, o.Own) {
		if slices.ContainsFunc(o.Own, func(own netip.Addr) bool { return u.Address(own) == own }) && u.Address(a) == a {
			return a
		}
	}
	return netip.Addr{}
}
