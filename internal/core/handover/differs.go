package handover

import (
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Differs tells what a plan changes for a device that was set up by another plan's values: why it cannot connect any more, and else which
// of its settings are others now. Authorities are not looked at.
func Differs(platform devices.Platform, was, now Values, then, after *site.Model) (stops, others []string) {
	t := after.Names.Tunnels[now.Tunnel]
	differ := func(name, a, b string) {
		if a != b {
			others = append(others, name)
		}
	}
	if was.Dial != now.Dial {
		stops = append(stops, fmt.Sprintf("it dials %s, and people dial %s then", was.Dial, now.Dial))
	}
	if was.Identity != now.Identity && was.Identity != was.Dial {
		stops = append(stops, fmt.Sprintf("it asks for %s, and the tunnel is called %s then", was.Identity, now.Identity))
	}
	takes := slices.Contains(t.Logins(), was.Login) || was.Login == plan.LoginMSCHAPv2 && slices.Contains(t.Logins(), plan.LoginRelayed)
	if !takes {
		stops = append(stops, fmt.Sprintf("it logs in by %s, and the tunnel takes %s then", was.Login, strings.Join(t.Logins(), ", ")))
	}
	if _, why := common(t.IKEv2().Set(), was.offers(platform, then)); why != "" {
		stops = append(stops, why)
	}
	differ("algorithms", was.Protect.String(), now.Protect.String())
	differ("PFS", fmt.Sprint(was.PFS), fmt.Sprint(now.PFS))
	differ("MTU", fmt.Sprint(was.MTU), fmt.Sprint(now.MTU))
	differ("keepalive", fmt.Sprint(was.Keepalive), fmt.Sprint(now.Keepalive))
	differ("routes", fmt.Sprint(was.Full, was.Routes), fmt.Sprint(now.Full, now.Routes))
	differ("DNS", fmt.Sprint(was.DNS, was.Search, was.Domains), fmt.Sprint(now.DNS, now.Search, now.Domains))
	differ("TCP port", fmt.Sprint(was.TCPPort), fmt.Sprint(now.TCPPort))
	differ("code page", was.CodePage, now.CodePage)
	differ("connecting by itself", was.OnDemand, now.OnDemand)
	return stops, others
}

// offers are the algorithms that a device set up by these values offers: our own client all that its tunnel had, others what was set.
func (v Values) offers(platform devices.Platform, of *site.Model) algorithm.Set {
	if t := of.Names.Tunnels[v.Tunnel]; platform.Word == devices.OwnClient && t != nil {
		return t.IKEv2().Set()
	}
	set := algorithm.Set{Encryption: []string{v.Protect.Encryption}, PRF: []string{v.Protect.PRF}, Groups: []string{v.Protect.Group}}
	if v.Protect.Integrity != "" {
		set.Integrity = []string{v.Protect.Integrity}
	}
	return set
}
