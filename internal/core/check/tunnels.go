package check

import (
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
)

// Encapsulation of ESP in UDP over IPv6 takes up to 80 octets of 1500 (IPv6 40, UDP 8, ESP 16, trailer and ICV 16 to 21).
const (
	leastMTU = 1280
	mostMTU  = 1420
)

var broken = map[string]string{
	"pptp": "PPTP is broken: its encryption can be undone from one recorded login (its login method's key has the strength of one DES key)",
}

// tunnels finds ways in that cannot work, or that this version cannot carry out.
func (c *checker) tunnels() {
	seen := map[string]string{}
	any := false
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
		if t.Kind != plan.KindIKEv2 {
			c.add(Stop, "not-yet", base+"/kind", "use kind: ikev2, or switch the tunnel off", "tunnels of kind %s cannot be carried out yet", t.Kind)
			continue
		}
		any = true
		if t.Login != plan.LoginMSCHAPv2 {
			c.add(Stop, "not-yet", base+"/login", "use login: eap-mschapv2", "login by %s cannot be carried out yet", t.Login)
			c.mend("set", base+"/login", plan.LoginMSCHAPv2)
		}
		if len(t.Suites) == 0 {
			c.add(Stop, "no-suite", base+"/suites", "add "+plan.SuiteGCMX25519+" and "+plan.SuiteGCMP256, "the tunnel has no algorithms: no device can agree with it")
			c.mend("set", base+"/suites", "["+plan.SuiteGCMX25519+", "+plan.SuiteGCMP256+"]")
		}
		for i, s := range t.Suites {
			if _, ok := ike.SuiteNamed(s); !ok {
				c.add(Stop, "not-yet", at(base+"/suites", i), "use "+plan.SuiteGCMX25519+" or "+plan.SuiteGCMP256, "suite %q does not exist or cannot be carried out yet", s)
			}
		}
		if other, twice := seen[t.Gateway]; twice {
			c.add(Stop, "tunnels-alike", base, "switch one of them off", "tunnels %s and %s use the same ports of gateway %s and nothing tells their callers apart", other, t.Name, t.Gateway)
			c.mend("set", base+"/off", "true")
		}
		seen[t.Gateway] = t.Name
		if t.MTU != 0 && (t.MTU < leastMTU || t.MTU > mostMTU) {
			c.add(Stop, "mtu", base+"/mtu", "use 1400, or leave it out", "an MTU of %d does not fit: IPv6 needs 1280, and encapsulation leaves 1420 of 1500", t.MTU)
			c.mend("set", base+"/mtu", "1400")
		}
	}
	if any {
		c.add(Note, "filtered-ports", "tunnels", "a second tunnel over TCP 443 will mend it; this version cannot carry one out yet", "the only way in uses UDP 500 and 4500, which some hotels and guest networks filter: people there cannot connect")
	}
	for _, p := range c.p.Passages {
		if len(p.Tunnels) == 0 && !p.Off {
			c.add(Stop, "no-tunnel", "passages/"+p.Name+"/tunnels", "name a tunnel", "nobody can come in by passage %s", p.Name)
		}
	}
}
