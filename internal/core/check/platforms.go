package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/plan"
)

// platforms holds each tunnel against the devices that its passages say people use.
func (c *checker) platforms() {
	for _, p := range c.p.Passages {
		for _, name := range p.Platforms {
			for _, word := range p.Tunnels {
				if t := c.n.Tunnels[word]; t != nil && !t.Off && !p.Off {
					if d, ok := devices.Named(name); ok {
						c.platform(p, *t, d)
					}
				}
			}
		}
	}
}

func (c *checker) platform(p plan.Passage, t plan.Tunnel, d devices.Platform) {
	base, own := "tunnels/"+t.Name, t.IKEv2()
	if set := own.Set(); !set.Empty() {
		c.agreement(p, t, set, d)
	}
	if a := own.Algorithms; a != nil && a.Demand && len(d.Able.Additional) == 0 {
		c.add(Stop, "additional-not-offered", base+"/algorithms/demand-additional", "leave it out, or give these people a tunnel of their own",
			"%s, which people of passage %s use, has no additional key exchange, however it is set up: it is refused at the first message (IKE_SA_INIT)",
			d.Name, p.Name)
		c.mend("remove", base+"/algorithms/demand-additional", "")
	}
	if own.MixedIn == plan.MixedInDemand && !d.MixesIn {
		c.add(Stop, "mixed-in-not-offered", base+"/mixed-in-key", "say accept, or give these people a tunnel of their own",
			"%s, which people of passage %s use, mixes no shared key in, however it is set up: it is refused at the end of its login (IKE_AUTH)",
			d.Name, p.Name)
		c.mend("set", base+"/mixed-in-key", plan.MixedInAccept)
	}
	if kinds := c.shownKinds(t); len(kinds) > 0 && !slices.ContainsFunc(kinds, func(k string) bool { return slices.Contains(d.Takes, k) }) {
		dial := t.Identity
		if g := c.n.Gateways[t.Gateway]; g != nil {
			dial = t.IdentityOr(g.Dial)
		}
		other := t.Certificate + "-rsa"
		c.add(Warn, "certificate-kind", base+"/second-certificate",
			"yl certificate make "+other+" --for "+dial+" --key-kind rsa, and say second-certificate: "+other,
			"%s, which people of passage %s use, surely takes only certificates with a key of kind %s, and this tunnel shows none: "+
				"it may refuse the gateway (IKE_AUTH)", d.Name, p.Name, quoted(d.Takes))
	}
	if first := c.firstTunnel(t.Gateway); d.NamesNone && first != "" && first != t.Name {
		c.add(Stop, "asks-for-no-tunnel", base, "put "+t.Name+" before "+first+" in the plan, or give these people "+first,
			"%s, which people of passage %s use, asks for no tunnel by name, and gets the first of gateway %s: %s, not %s", d.Name, p.Name, t.Gateway,
			first, t.Name)
		c.mend("move", base, first)
	}
	if !slices.ContainsFunc(t.Logins(), func(way string) bool { return slices.Contains(d.Logins, way) }) {
		c.add(Stop, "login-not-offered", base+"/login", "use one of "+quoted(d.Logins), "%s, which people of passage %s use, cannot log in by %s",
			d.Name, p.Name, strings.Join(t.Logins(), " or "))
	}
	if own.PFS && !d.PFS {
		c.add(Stop, "pfs-not-offered", base+"/pfs", "leave it out", "%s, which people of passage %s use, renews without a key exchange of its own: their sessions end at the first renewal", d.Name, p.Name)
		c.mend("remove", base+"/pfs", "")
	}
	if has := cmp.Or(time.Duration(p.Limits.Patience), time.Duration(own.Patience), 4*time.Minute); has < d.Sleeps {
		path := plan.OriginOf(c.taken, "passages/"+p.Name+"/limits/patience")
		c.add(Note, "patience-short", path, "use "+plan.Duration(d.Sleeps).String(),
			"%s, which people of passage %s use, goes on with its session after %s without a network, or asleep; the gateway has ended it after %s, and people log in anew",
			d.Name, p.Name, plan.Duration(d.Sleeps), plan.Duration(has))
		c.mend("set", path, plan.Duration(d.Sleeps).String())
	}
	c.lifetime(p, base+"/lifetimes/ike", own.Lifetimes.IKE, d.Name, d.RenewsIKE)
	c.lifetime(p, base+"/lifetimes/esp", own.Lifetimes.ESP, d.Name, d.RenewsESP)
}

// shownKinds are the kinds of keys of the certificates that a tunnel shows, as far as they are there.
func (c *checker) shownKinds(t plan.Tunnel) (out []string) {
	for _, name := range t.Certificates() {
		if have := c.Certificates[name]; have != nil {
			out = append(out, cert.KindOf(have))
		}
	}
	return out
}

// firstTunnel is the tunnel of its kind that devices get who ask a gateway for none by name; empty: there is none.
func (c *checker) firstTunnel(gateway string) string {
	for _, t := range c.p.Tunnels {
		if !t.Off && t.Gateway == gateway && t.Kind == plan.KindIKEv2 {
			return t.Name
		}
	}
	return ""
}

func (c *checker) lifetime(p plan.Passage, path string, ours plan.Duration, device string, theirs time.Duration) {
	if ours != 0 && theirs != 0 && time.Duration(ours) <= theirs {
		enough := plan.Duration(theirs + theirs/4)
		c.add(Stop, "lifetime-short", path, "use "+enough.String()+" or more", "%s, which people of passage %s use, renews after %s only: after %s their sessions end", device, p.Name, plan.Duration(theirs), ours)
		c.mend("set", path, enough.String())
	}
}

// agreement holds a tunnel's algorithms against what a kind of device offers at the first message.
func (c *checker) agreement(p plan.Passage, t plan.Tunnel, set algorithm.Set, d devices.Platform) {
	base := "tunnels/" + t.Name
	unset, never := set.Lacks(d.Default), set.Lacks(d.Able)
	switch {
	case unset.None():
	case never.None(): // once it is set up
		c.add(Note, "offers-no-common-algorithm", base+"/algorithms", fmt.Sprintf("set these devices to what the tunnel has (%s), or add %s", d.Setting, unset),
			"%s, which people of passage %s use, offers by itself nothing that tunnel %s has: it is refused at the first message (IKE_SA_INIT) until it is set up", d.Name, p.Name, t.Name)
	default:
		c.add(Stop, "no-common-algorithm", base+"/algorithms", "add "+never.String(),
			"%s, which people of passage %s use, can agree with none of %s, however it is set up: it is refused at the first message (IKE_SA_INIT)", d.Name, p.Name, set)
		for _, e := range t.Adding(never) {
			c.mend(e.Op, e.Path, e.Value)
		}
	}
}
