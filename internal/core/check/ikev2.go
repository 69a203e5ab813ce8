package check

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
)

// Home routers forget a silent UDP flow after 30 seconds and more (RFC 4787 §4.3 asks for 2 minutes and many do not keep to it).
const longKeepalive = 25 * time.Second

var hostName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$`)

// ikev2 finds what of a tunnel of that kind cannot work.
func ikev2(o *OfTunnel) {
	own := o.Tunnel.IKEv2()
	o.algorithms(own)
	o.sendTo(own.SendTo)
	if own.SHA1 {
		o.Add(Warn, "sha1-signatures", "sha1-signatures", "leave it out where devices can be set to more, or give people keys on a curve",
			"people may prove themselves by signatures with SHA-1, which no longer withstands attacks")
		o.Mend("remove", "sha1-signatures", "")
	}
	if own.SendTo != "" && o.Tunnel.Login == plan.LoginSharedKey {
		o.Add(Stop, "not-yet", "send-to", "leave it out, or use another login",
			"devices that prove themselves by a shared key cannot be sent on yet: they would not know that it was this gateway that did it")
		o.Mend("remove", "send-to", "")
	}
	o.Between("liveness", own.Liveness, 10*time.Second, time.Hour)
	o.Between("patience", own.Patience, 10*time.Second, 10*time.Minute)
	o.Between("keepalive", own.Keepalive, 5*time.Second, 5*time.Minute)
	o.Between("lifetimes/ike", own.Lifetimes.IKE, 10*time.Minute, 168*time.Hour)
	o.Between("lifetimes/esp", own.Lifetimes.ESP, 5*time.Minute, 168*time.Hour)
	o.least("lifetimes/esp-packets", own.Lifetimes.ESPPackets, 1_000_000, "keys would be renewed every few seconds")
	o.least("lifetimes/esp-megabytes", own.Lifetimes.ESPMegabytes, 1000, "keys would be renewed every few seconds")
	if k := time.Duration(own.Keepalive); k > longKeepalive && k <= 5*time.Minute {
		o.Add(Warn, "keepalive-long", "keepalive", "use 20s", "home routers may forget a silent device before %s are over: what is sent to it then is lost", own.Keepalive)
		o.Mend("set", "keepalive", "20s")
	}
}

// sendTo finds a gateway to which devices are sent on that is this one, or none.
func (o *OfTunnel) sendTo(to string) {
	g := o.c.n.Gateways[o.Tunnel.Gateway]
	_, notAddress := netip.ParseAddr(to)
	switch {
	case to == "":
	case notAddress != nil && !hostName.MatchString(to):
		o.Add(Stop, "send-to", "send-to", "give a name or an address, without a port", "%q is neither a name nor an address to which devices could be sent", to)
	case g != nil && (strings.EqualFold(to, g.Dial) || strings.EqualFold(to, o.Tunnel.Identity)):
		o.Add(Stop, "send-to", "send-to", "name another gateway, or leave it out", "devices are sent on to %s, which is this gateway itself", to)
		o.Mend("remove", "send-to", "")
	}
}

// least holds a number to a least one; 0: it is not given.
func (o *OfTunnel) least(setting string, n, least int, otherwise string) {
	if n > 0 && n < least {
		o.Add(Stop, "out-of-range", setting, fmt.Sprintf("use %d", least), "%d is too few: %s", n, otherwise)
		o.Mend("set", setting, strconv.Itoa(least))
	}
}

func (o *OfTunnel) algorithms(own *plan.IKEv2) {
	o.renamed(own)
	set := own.Set()
	switch {
	case own.Algorithms == nil && len(own.Suites) == 0:
		o.Add(Stop, "no-algorithms", "algorithms", "say algorithms: {level: strict}", "the tunnel has no algorithms: no device can agree with it")
		o.Mend("set", "algorithms", "{level: strict}")
	case len(set.Integrity) == 0 && set.Separate():
		o.Add(Stop, "integrity-missing", "algorithms", "add HMAC-SHA2-256-128 under integrity", "%s protects no integrity itself, and none is named beside it", separateIn(set))
		o.Mend("set", "algorithms/integrity", "[HMAC-SHA2-256-128]")
	case set.Empty():
		missing := "encryption"
		switch {
		case len(set.PRF) == 0:
			missing = "prf"
		case len(set.Groups) == 0:
			missing = "groups"
		}
		o.Add(Stop, "no-algorithms", "algorithms", "name some under "+missing+", or a level", "the tunnel has no %s: no device can agree with it", missing)
		o.Mend("set", "algorithms/level", algorithm.Strict)
	}
	if a := own.Algorithms; a != nil && a.Demand && len(set.Additional) == 0 {
		o.Add(Stop, "additional-missing", "algorithms/additional", "add ML-KEM-768", "an additional key exchange is demanded, and none is named: no device comes in")
		o.Mend("set", "algorithms/additional", "[ML-KEM-768]")
	}
	o.weak(own)
	o.onTheWay(set)
}

// What stands around a sealed packet on its way.
const (
	aroundIPv4 = 20 + 8 // IPv4 and UDP
	aroundIPv6 = 40 + 8
	wayCarries = 1500
)

// onTheWay finds packets that are larger on their way than most links carry, once they are sealed: they are cut there, or lost.
func (o *OfTunnel) onTheWay(set algorithm.Set) {
	p, err := ike.PolicyOf(set)
	if err != nil {
		return
	}
	around, name := aroundIPv4, "IPv4"
	if g := o.c.n.Gateways[o.Tunnel.Gateway]; g != nil && slices.ContainsFunc(g.Outside.Addresses, netip.Addr.Is6) {
		around, name = aroundIPv6, "IPv6"
	}
	mtu := o.Tunnel.InnerMTU()
	outer := p.Largest(mtu) + around
	if outer <= wayCarries {
		return
	}
	fits := mtu
	for fits > leastMTU && p.Largest(fits)+around > wayCarries {
		fits--
	}
	o.Add(Warn, "mtu-on-the-way", "mtu", "use "+strconv.Itoa(fits), "packets of %d octets have up to %d once they are sealed and on their way over %s, and most links carry %d: they are cut there, or lost", mtu, outer, name, wayCarries)
	o.Mend("set", "mtu", strconv.Itoa(fits))
}

// weak finds algorithms that no longer withstand attacks, each by itself, so that each is accepted by name.
func (o *OfTunnel) weak(own *plan.IKEv2) {
	if own.Algorithms == nil {
		return
	}
	for _, k := range algorithm.Kinds {
		set := own.Set()
		for _, word := range *set.Kind(k) {
			a, ok := algorithm.Named(k, word)
			if !ok || a.Weak == "" {
				continue
			}
			named := map[algorithm.Kind][]string{
				algorithm.Encryption: own.Algorithms.Encryption, algorithm.Integrity: own.Algorithms.Integrity,
				algorithm.PRF: own.Algorithms.PRF, algorithm.Group: own.Algorithms.Groups,
			}[k]
			fix := "use level broad, and set the devices up that offer no more (docs/devices.md)"
			if own.Algorithms.Level != algorithm.Legacy {
				fix = "take it out"
			}
			o.Add(Warn, "weak-algorithm", "algorithms/"+a.Name, fix,
				"%s (%s): %s; devices that offer nothing better come in by it", a.Name, a.Entry, a.Weak)
			if i := slices.Index(named, word); i >= 0 && len(named) > 1 && own.Algorithms.Level != algorithm.Legacy {
				o.Mend("remove", "algorithms/"+k.String()+"/"+strconv.Itoa(i), "")
			}
		}
	}
}

// renamed finds words of versions before 0.11, which are read once more.
func (o *OfTunnel) renamed(own *plan.IKEv2) {
	a := plan.Algorithms{}
	if own.Algorithms != nil {
		a = *own.Algorithms
	}
	old := len(own.Suites) > 0
	for k, words := range map[algorithm.Kind][]string{algorithm.Encryption: a.Encryption, algorithm.PRF: a.PRF, algorithm.Group: a.Groups} {
		old = old || slices.ContainsFunc(words, func(w string) bool { x, ok := algorithm.Named(k, w); return ok && x.Name != w })
	}
	if !old {
		return
	}
	path, set := "algorithms", own.Set()
	if len(own.Suites) > 0 {
		path = "suites"
	}
	words := "{" // the level stays where there is one
	if a.Level != "" {
		words += "level: " + a.Level + ", "
		level := algorithm.OfLevel(a.Level)
		for _, k := range algorithm.Kinds {
			list := set.Kind(k)
			*list = slices.DeleteFunc(slices.Clone(*list), func(w string) bool { return slices.Contains(*level.Kind(k), w) })
		}
	}
	for _, k := range algorithm.Kinds {
		if list := *set.Kind(k); len(list) > 0 {
			words += k.String() + ": [" + strings.Join(list, ", ") + "], "
		}
	}
	words = strings.TrimSuffix(words, ", ") + "}"
	o.Add(Stop, "algorithms-renamed", path, "write algorithms: "+words, "algorithms have the names of the registry since version 0.11; what runs goes on with these meanwhile")
	if words == "{}" {
		return
	}
	o.Mend("set", "algorithms", words)
	if len(own.Suites) > 0 {
		o.Mend("remove", "suites", "")
	}
}

// separateIn is the first encryption that needs an integrity beside it.
func separateIn(set algorithm.Set) string {
	for _, w := range set.Encryption {
		if a, ok := algorithm.Named(algorithm.Encryption, w); ok && !a.Own {
			return w
		}
	}
	return ""
}

// filtered finds that the only ways in are by UDP ports that some networks filter.
func (c *checker) filtered() {
	var udpOnly []string
	for _, t := range c.p.Tunnels {
		if !t.Off && t.Kind == plan.KindIKEv2 && t.IKEv2().TCPPort == 0 {
			udpOnly = append(udpOnly, t.Name)
		}
	}
	if len(udpOnly) > 0 {
		c.add(Note, "filtered-ports", "tunnels", "give it a tcp-port, such as 443: our own client then comes over TCP", "the only way in by %s uses UDP 500 and 4500, which some hotels and guest networks filter: people there cannot connect", few(udpOnly))
	}
}
