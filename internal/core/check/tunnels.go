package check

import (
	"slices"
	"time"

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

// byEAP are those in which a device can ask for another method.
var byEAP = []string{plan.LoginMSCHAPv2, plan.LoginTTLS, plan.LoginEAPTLS, plan.LoginRelayed}

// tunnels finds ways in that cannot work, or that this version cannot carry out.
func (c *checker) tunnels() {
	seen := map[string]string{}
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
		for i, also := range t.Also {
			if !slices.Contains(byEAP, t.Login) || also == t.Login || slices.Contains(t.Also[:i], also) {
				c.add(Stop, "also-login", at(base+"/also-login", i), "leave it out, or say login: eap-ttls with also-login: [eap-mschapv2]",
					"%s cannot stand beside login: %s in tunnel %s: a device can ask for another method of EAP, and for nothing else", also, t.Login, t.Name)
			}
		}
		if kind := kinds[t.Kind]; kind != nil {
			kind(&OfTunnel{c, t, base})
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
	c.filtered()
	for _, p := range c.p.Passages {
		if p.Off {
			continue
		}
		if len(p.Tunnels) == 0 {
			c.add(Stop, "no-tunnel", "passages/"+p.Name+"/tunnels", "name a tunnel", "nobody can come in by passage %s", p.Name)
		} else if off := c.allOff(p); off != "" {
			severity := Warn
			if !slices.ContainsFunc(c.p.Tunnels, func(t plan.Tunnel) bool { return !t.Off }) {
				severity = Stop // nobody comes in at all
			}
			c.add(severity, "tunnels-off", "passages/"+p.Name+"/tunnels", "switch tunnel "+off+" on, or name one that is",
				"nobody can come in by passage %s: every tunnel that it names is off, and its people have no other passage's rights meanwhile", p.Name)
			c.mend("remove", "tunnels/"+off+"/off", "")
		}
		if p.Pool == "" {
			c.add(Stop, "no-pool", "passages/"+p.Name+"/pool", "name a pool",
				"there are no addresses for people of passage %s: nobody can come in by it", p.Name)
		}
	}
}

// allOff is the first tunnel of a passage where every one that there is is off; empty: one is on, or there is none.
func (c *checker) allOff(p plan.Passage) (first string) {
	for _, name := range p.Tunnels {
		t := c.n.Tunnels[name]
		switch {
		case t == nil:
		case !t.Off:
			return ""
		case first == "":
			first = name
		}
	}
	return first
}

// sizes finds numbers that do not work, whatever the kind.
func (c *checker) sizes(t plan.Tunnel, base string) {
	if t.MTU != 0 && (t.MTU < leastMTU || t.MTU > mostMTU) {
		c.add(Stop, "mtu", base+"/mtu", "use 1400, or leave it out", "an MTU of %d does not fit: IPv6 needs 1280, and encapsulation leaves 1420 of 1500", t.MTU)
		c.mend("set", base+"/mtu", "1400")
	}
	if t.KeepMSS {
		c.add(Warn, "mss-kept", base+"/keep-mss", "leave it out", "segments are not made to fit the tunnel: where ICMP is filtered on the way, connections open and large pages hang")
		c.mend("remove", base+"/keep-mss", "")
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
