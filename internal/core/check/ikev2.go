package check

import (
	"strings"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
)

// Home routers forget a silent UDP flow after 30 seconds and more (RFC 4787 §4.3 asks for 2 minutes and many do not keep to it).
const longKeepalive = 25 * time.Second

// ikev2 finds what of a tunnel of that kind cannot work.
func ikev2(o *OfTunnel) {
	own := o.Tunnel.IKEv2()
	o.algorithms(own)
	o.Between("liveness", own.Liveness, 10*time.Second, time.Hour)
	o.Between("patience", own.Patience, 10*time.Second, 10*time.Minute)
	o.Between("keepalive", own.Keepalive, 5*time.Second, 5*time.Minute)
	o.Between("lifetimes/ike", own.Lifetimes.IKE, 10*time.Minute, 168*time.Hour)
	o.Between("lifetimes/esp", own.Lifetimes.ESP, 5*time.Minute, 168*time.Hour)
	if k := time.Duration(own.Keepalive); k > longKeepalive && k <= 5*time.Minute {
		o.Add(Warn, "keepalive-long", "keepalive", "use 20s", "home routers may forget a silent device before %s are over: what is sent to it then is lost", own.Keepalive)
		o.Mend("set", "keepalive", "20s")
	}
}

func (o *OfTunnel) algorithms(own *plan.IKEv2) {
	const both = "[" + plan.SuiteGCMX25519 + ", " + plan.SuiteGCMP256 + "]"
	switch names := own.SuiteNames(); {
	case own.Algorithms != nil && len(own.Suites) > 0:
		o.Add(Stop, "suites-and-algorithms", "algorithms", "keep one of them", "tunnel %s names suites and algorithms: which of them holds is unclear", o.Tunnel.Name)
		o.Mend("remove", "algorithms", "")
	case len(names) == 0:
		path := "suites"
		if own.Algorithms != nil {
			path = "algorithms"
		}
		o.Add(Stop, "no-suite", path, "add "+plan.SuiteGCMX25519+" and "+plan.SuiteGCMP256, "the tunnel has no algorithms: no device can agree with it")
		if own.Algorithms == nil {
			o.Mend("set", path, both)
		}
	}
	for i, s := range own.Suites {
		if _, ok := ike.SuiteNamed(s); !ok {
			words := "suite %q does not exist or cannot be carried out yet"
			if weak := legacy(s); weak != "" {
				words = "suite %q is refused: " + weak + " no longer withstands attacks that can be paid for"
			}
			o.Add(Stop, "not-yet", at("suites", i), "use "+plan.SuiteGCMX25519+" or "+plan.SuiteGCMP256, words, s)
			if len(own.Suites) > 1 {
				o.Mend("remove", at("suites", i), "")
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
