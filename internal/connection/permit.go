package connection

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/dial"
)

// Permit is what a kit lets the gateway have this host do. Otherwise a gateway that somebody took over decides over a host that connects as
// root.
type Permit struct {
	// Any is that the kit names nothing, as those of versions before 0.18 do.
	Any     bool
	Full    bool           // everything may go into the tunnel
	Routes  []netip.Prefix // what may go into it otherwise
	DNS     []netip.Addr   // DNS servers beside those that are in Routes
	Domains []string       // whose names, and those below them, may be asked of the gateway's DNS servers
}

// What a gateway may assign at most.
const (
	mostRoutes   = 4096 // prefixes
	mostDNS      = 8
	mostDomains  = 64
	widestPrefix = 48 // of IPv6, for what is behind this host
	families     = 2  // IPv4 and IPv6, in each of which addresses are asked for
)

// neverInside are sources and destinations that nobody has beyond a tunnel: this network, loopback, link-local, multicast and broadcast
// (RFC 6890, RFC 4291 §2.4), and IPv4 written as IPv6.
var neverInside = netset.OfPrefixes(
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("169.254.0.0/16"),
	netip.MustParsePrefix("224.0.0.0/3"), netip.MustParsePrefix("::/127"), netip.MustParsePrefix("::ffff:0:0/96"),
	netip.MustParsePrefix("fe80::/10"), netip.MustParsePrefix("ff00::/8"),
)

// accept reads what a gateway assigned, as what anybody may have written. Addresses that cannot be this host's end the session; routes, DNS
// servers and domains that are not permitted are left out, and said. near are the networks that this host is on.
func accept(g dial.Given, p Permit, near []netip.Prefix, asked int) (out dial.Given, left []string, err error) {
	out = g
	if most := families * max(asked, 1); len(g.Addresses) == 0 || len(g.Addresses) > most || len(g.Prefixes) > most {
		return out, nil, fmt.Errorf("the gateway assigned %d addresses and %d prefixes, and at most %d of each were asked for",
			len(g.Addresses), len(g.Prefixes), most)
	}
	for _, a := range g.Addresses {
		if neverInside.Contains(a) {
			return out, nil, fmt.Errorf("the gateway assigned %s, which is no unicast address of a network", a)
		}
		for _, n := range near {
			if n.Contains(a) {
				return out, nil, fmt.Errorf("the gateway assigned %s, and this host is on %s itself: connect from another network, or "+
					"have the pool changed", a, n)
			}
		}
	}
	for _, x := range g.Prefixes {
		if x.Bits() < widestPrefix || !slices.ContainsFunc(g.Addresses, x.Contains) {
			return out, nil, fmt.Errorf("the gateway assigned the prefix %s, which is wider than /%d or has none of the addresses in it", x,
				widestPrefix)
		}
	}
	if out.Full = g.Full && (p.Any || p.Full); !out.Full {
		out.Routes = p.routes(g)
		if prefixes := out.Routes.Prefixes(); len(prefixes) > mostRoutes {
			return out, nil, fmt.Errorf("the gateway assigned %d routes, and at most %d are taken", len(prefixes), mostRoutes)
		}
		_, beyond := split(g.Routes.Prefixes(), mostRoutes, func(x netip.Prefix) bool { return out.Routes.Covers(netset.OfPrefixes(x)) })
		if len(beyond) > 0 {
			left = append(left, "routes: "+some(beyond))
		}
	}
	var servers []netip.Addr
	out.DNS, servers = split(g.DNS, mostDNS, func(a netip.Addr) bool {
		return !neverInside.Contains(a) && (p.Any || out.Full || out.Routes.Contains(a) || slices.Contains(p.DNS, a))
	})
	if len(servers) > 0 {
		left = append(left, "DNS servers: "+some(servers))
	}
	var domains []string
	out.Domains, domains = split(g.Domains, mostDomains, p.domain)
	if len(domains) > 0 {
		left = append(left, "domains: "+some(quoted(domains)))
	}
	return out, left, nil
}

func (p Permit) routes(g dial.Given) netset.Addrs {
	if p.Any || p.Full {
		return g.Routes.Subtract(neverInside)
	}
	return g.Routes.Intersect(netset.OfPrefixes(p.Routes...)).Subtract(neverInside)
}

// domain tells whether the gateway's DNS servers may be asked for names of a domain.
func (p Permit) domain(d string) bool {
	return hostname(d) && (p.Any || slices.ContainsFunc(p.Domains, func(own string) bool {
		d, own := strings.ToLower(d), strings.ToLower(strings.TrimSuffix(own, "."))
		return d == own || strings.HasSuffix(d, "."+own)
	}))
}

// hostname tells whether a text is a domain's name and nothing else (RFC 1123 §2.1, with the underscore that DNS permits): it goes into
// resolv.conf and to the system's own resolver, for whom a tilde or a hyphen in front means something.
func hostname(d string) bool {
	if d == "" || len(d) > 253 {
		return false
	}
	for label := range strings.SplitSeq(d, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for _, c := range []byte(label) {
			if c != '-' && c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
				return false
			}
		}
	}
	return true
}

func split[T any](all []T, most int, good func(T) bool) (in, out []T) {
	for _, x := range all {
		if len(in) < most && good(x) {
			in = append(in, x)
		} else {
			out = append(out, x)
		}
	}
	return in, out
}

// some names the first few.
func some[T any](all []T) string {
	const few = 5
	if len(all) > few {
		return fmt.Sprintf("%s and %d more", join(all[:few]), len(all)-few)
	}
	return join(all)
}

func join[T any](all []T) string {
	words := make([]string, len(all))
	for i, x := range all {
		words[i] = fmt.Sprint(x)
	}
	return strings.Join(words, ", ")
}

func quoted(all []string) []string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = fmt.Sprintf("%.80q", x)
	}
	return out
}
