package check

import (
	"strings"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
)

// Encapsulation of ESP in UDP over IPv6 takes up to 80 octets of 1500 (IPv6 40, UDP 8, ESP 16, trailer and ICV 16 to 21).
const (
	leastMTU = 1280
	mostMTU  = 1420
	// Home routers forget a silent UDP flow after 30 seconds and more (RFC 4787 §4.3 asks for 2 minutes and many do not keep to it).
	longKeepalive = 25 * time.Second
)

var broken = map[string]string{
	"pptp": "PPTP is broken: its encryption can be undone from one recorded login (its login method's key has the strength of one DES key)",
}

// tunnels finds ways in that cannot work, or that this version cannot carry out.
func (c *checker) tunnels() {
	seen := map[string]string{}
	var udpOnly []string
	for _, t := range c.p.Tunnels {
		base := "tunnels/" + t.Name
		if t.Off {
			continue
		}
		if why, ok := broken[t.Kind]; ok {
			c.add(Stop, "broken-protocol", base+"/kind", "use kind: ikev2, which every current system's own client has", "%s", why)
			c.mend("set", base+"/kind", plan.KindIKEv2)
			continue
		}
		if !plan.Carried(t.Kind) {
			c.add(Stop, "not-yet", base+"/kind", "use kind: ikev2, or switch the tunnel off",
				"tunnels of kind %s cannot be carried out yet", t.Kind)
			continue
		}
		if t.TCPPort == 0 {
			udpOnly = append(udpOnly, t.Name)
		}
		if t.Login != plan.LoginMSCHAPv2 {
			c.add(Stop, "not-yet", base+"/login", "use login: eap-mschapv2", "login by %s cannot be carried out yet", t.Login)
			c.mend("set", base+"/login", plan.LoginMSCHAPv2)
		}
		if t.Kind == plan.KindIKEv2 {
			c.algorithms(t, base)
		}
		dial := ""
		if g := c.n.Gateways[t.Gateway]; g != nil {
			dial = g.Dial
		}
		caller := t.Gateway + " " + t.IdentityOr(dial)
		if other, twice := seen[caller]; twice {
			c.add(Stop, "tunnels-alike", base, "give one of them an identity of its own, or switch one off", "tunnels %s and %s use the same ports and the same name of gateway %s: nothing tells their callers apart", other, t.Name, t.Gateway)
			c.mend("set", base+"/off", "true")
		}
		seen[caller] = t.Name
		c.sizes(t, base)
	}
	if len(udpOnly) > 0 {
		c.add(Note, "filtered-ports", "tunnels", "give it a tcp-port, such as 443: our own client then comes over TCP", "the only way in by %s uses UDP 500 and 4500, which some hotels and guest networks filter: people there cannot connect", few(udpOnly))
	}
	for _, p := range c.p.Passages {
		if p.Off {
			continue
		}
		if len(p.Tunnels) == 0 {
			c.add(Stop, "no-tunnel", "passages/"+p.Name+"/tunnels", "name a tunnel", "nobody can come in by passage %s", p.Name)
		}
		if p.Pool == "" {
			c.add(Stop, "no-pool", "passages/"+p.Name+"/pool", "name a pool",
				"there are no addresses for people of passage %s: nobody can come in by it", p.Name)
		}
	}
}

func (c *checker) algorithms(t plan.Tunnel, base string) {
	const both = "[" + plan.SuiteGCMX25519 + ", " + plan.SuiteGCMP256 + "]"
	switch names := t.SuiteNames(); {
	case t.Algorithms != nil && len(t.Suites) > 0:
		c.add(Stop, "suites-and-algorithms", base+"/algorithms", "keep one of them", "tunnel %s names suites and algorithms: which of them holds is unclear", t.Name)
		c.mend("remove", base+"/algorithms", "")
	case len(names) == 0:
		path := base + "/suites"
		if t.Algorithms != nil {
			path = base + "/algorithms"
		}
		c.add(Stop, "no-suite", path, "add "+plan.SuiteGCMX25519+" and "+plan.SuiteGCMP256, "the tunnel has no algorithms: no device can agree with it")
		if t.Algorithms == nil {
			c.mend("set", path, both)
		}
	}
	for i, s := range t.Suites {
		if _, ok := ike.SuiteNamed(s); !ok {
			words := "suite %q does not exist or cannot be carried out yet"
			if weak := legacy(s); weak != "" {
				words = "suite %q is refused: " + weak + " no longer withstands attacks that can be paid for"
			}
			c.add(Stop, "not-yet", at(base+"/suites", i), "use "+plan.SuiteGCMX25519+" or "+plan.SuiteGCMP256, words, s)
			if len(t.Suites) > 1 {
				c.mend("remove", at(base+"/suites", i), "")
			}
		}
	}
}

// legacy is the algorithm of a suite that is broken, if there is one.
func legacy(suite string) string {
	for _, weak := range []string{"3des", "des", "md5", "sha1", "modp768", "modp1024", "modp1536"} {
		for _, part := range strings.FieldsFunc(suite, func(r rune) bool { return r == '-' || r == '_' }) {
			if part == weak {
				return weak
			}
		}
	}
	return ""
}

// sizes finds numbers and lengths of time that do not work.
func (c *checker) sizes(t plan.Tunnel, base string) {
	if t.MTU != 0 && (t.MTU < leastMTU || t.MTU > mostMTU) {
		c.add(Stop, "mtu", base+"/mtu", "use 1400, or leave it out", "an MTU of %d does not fit: IPv6 needs 1280, and encapsulation leaves 1420 of 1500", t.MTU)
		c.mend("set", base+"/mtu", "1400")
	}
	if t.KeepMSS {
		c.add(Warn, "mss-kept", base+"/keep-mss", "leave it out", "segments are not made to fit the tunnel: where ICMP is filtered on the way, connections open and large pages hang")
		c.mend("remove", base+"/keep-mss", "")
	}
	c.between(base+"/liveness", t.Liveness, 10*time.Second, time.Hour)
	c.between(base+"/patience", t.Patience, 10*time.Second, 10*time.Minute)
	c.between(base+"/keepalive", t.Keepalive, 5*time.Second, 5*time.Minute)
	c.between(base+"/lifetimes/ike", t.Lifetimes.IKE, 10*time.Minute, 168*time.Hour)
	c.between(base+"/lifetimes/esp", t.Lifetimes.ESP, 5*time.Minute, 168*time.Hour)
	if k := time.Duration(t.Keepalive); k > longKeepalive && k <= 5*time.Minute {
		c.add(Warn, "keepalive-long", base+"/keepalive", "use 20s", "home routers may forget a silent device before %s are over: what is sent to it then is lost", t.Keepalive)
		c.mend("set", base+"/keepalive", "20s")
	}
}

// between finds a length of time out of its range; none given is right.
func (c *checker) between(path string, d plan.Duration, least, most time.Duration) {
	if d == 0 && !c.Doc.Has(plan.OriginOf(c.taken, path)) {
		return
	}
	if v := time.Duration(d); v < least || v > most {
		near := plan.Duration(max(least, min(v, most)))
		c.add(Stop, "out-of-range", path, "use "+near.String(), "%s is out of range: %s to %s", d, plan.Duration(least), plan.Duration(most))
		c.mend("set", path, near.String())
	}
}
