package check

import (
	"net/url"
	"strings"
	"time"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/seen"
)

// calls finds what is wrong with the calls that keep the name up to date.
func (c *checker) calls(base string, g plan.Gateway) {
	for _, x := range g.Outside.Calls {
		path := base + "/outside/calls/" + x.Name
		u, err := url.Parse(x.Expand(x.URL, g.Dial, nil))
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
			c.add(Stop, "call-malformed", path+"/url", "write it as https://names.tern.example/{name}",
				"%q is no address of a page: the call is never made", x.URL)
		case u.User != nil:
			c.add(Stop, "call-malformed", path+"/url",
				"name the user under user, and keep the password: yl secret keep NAME --kind password --from-file FILE",
				"a password stands in the address: whoever reads the plan reads it too")
		case u.Scheme == "http":
			c.add(Warn, "call-in-clear", path+"/url", "call it by https",
				"the call goes in clear: whoever is on the way reads the secret, and can make the name lead elsewhere")
			c.mend("set", path+"/url", quote("https"+strings.TrimPrefix(x.URL, "http")))
		}
		for _, p := range x.Unknown() {
			c.add(Stop, "call-malformed", path, "the places are {name}, {ipv4} and {ipv6}",
				"%s stands for nothing: it would be sent as it is", p)
		}
		if x.Tells() && g.Outside.InFront != nil {
			c.add(Stop, "update-behind-router", path, "leave {ipv4} and {ipv6} out, and say again: 10m, where whoever is called takes the address that the call comes from; or let the router in front update the name", "the gateway sits behind another router and does not see its public address: it cannot tell it")
		}
		if !x.Tells() && x.Again.Or(0) == 0 {
			c.add(Stop, "call-never-again", path, "say again: 10m, or put {ipv4} or {ipv6} into url or body",
				"the call holds no address, so nobody knows when it is to be made again: the name stays where it led first")
			c.mend("set", path+"/again", "10m")
		}
		if (x.User != "" || x.Header != "") && x.Secret == "" {
			c.add(Stop, "no-secret", path, "name the secret under secret",
				"call %s has a user or header for a secret, and no secret", x.Name)
		}
		if x.User != "" && x.Header != "" {
			c.add(Stop, "call-malformed", path+"/header", "take user or header out",
				"the secret of call %s cannot be sent both ways", x.Name)
		}
		if c.Secrets != nil && x.Secret != "" && !c.Secrets[x.Secret] {
			c.add(Stop, "no-secret", path+"/secret", "keep it: yl secret keep "+x.Secret+" --kind password --from-file FILE",
				"there is no secret %q: the call would be refused", x.Secret)
			c.todo(KeepSecret, x.Secret, "")
		}
		c.between(path+"/every", x.Every, 10*time.Second, time.Hour)
		c.between(path+"/again", x.Again, time.Minute, 720*time.Hour)
	}
}

// seenOutside finds where what was seen from elsewhere is not what the plan says.
func (c *checker) seenOutside() {
	if c.Outside == nil || len(c.p.Gateways) == 0 || c.Now.Sub(c.Outside.At) > seen.Old {
		return
	}
	for _, x := range c.Outside.Follows(c.p, c.p.Gateways[0]) {
		fix, when := x.Mend+"; then ask again: yl outside", c.Outside.At.UTC().Format("2006-01-02 15:04 UTC")
		switch x.Kind {
		case seen.AllShut, seen.Shut:
			c.add(Warn, "not-reached-from-outside", x.Path, fix, "%s (%s)", x.Words, when)
		case seen.Elsewhere:
			c.add(Warn, "seen-elsewhere", x.Path, fix, "%s (%s)", x.Words, when)
		}
		for _, e := range x.Edits {
			c.mend(e.Op, e.Path, e.Value)
		}
	}
}
