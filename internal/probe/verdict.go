package probe

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/dial"
)

func (r *Report) notConnected(o Order, err error) {
	r.Login, r.Fault = err.Error(), faultOf(err)
	for i := range r.Results {
		res := &r.Results[i]
		res.Seen = saw(reason.NotConnected, nil)
		// nothing was tried, so nothing is as expected: neither what must be reached nor what must not
		if res.Untried = o.Admitted; res.Untried {
			res.Seen = saw(reason.LoginFailed, nil)
			continue
		}
		if res.OK = !res.Want || res.Edge; !res.OK {
			r.Missed++
		}
	}
	if !o.Admitted {
		r.OK = r.Missed == 0
		return
	}
	r.Missed++
	r.Differs++
	r.Causes = append(r.Causes, cause(err))
}

// faultOf names what kept the device out.
func faultOf(err error) reason.Code {
	var f *dial.Fault
	if errors.As(err, &f) {
		return f.Code
	}
	return reason.FaultOther
}

// cause says at which station before the gateway's rules a login was lost.
func cause(err error) string {
	switch faultOf(err) {
	case reason.FaultSilentTCP:
		return "station outside: UDP is dropped on the way, and what answers TCP there is not this gateway: look at what the router in front forwards for the tunnel's tcp-port (tunnels/…/tcp-port, gateways/…/outside)"
	case reason.FaultStopped:
		return "station login: " + err.Error()
	case reason.FaultSilent4500:
		return "station outside: the plan says that UDP 4500 arrives at the gateway; the site loses it on the way. Look at the router and the provider in front of the gateway: it must pass UDP 500 and 4500 (gateways/…/outside)"
	case reason.FaultSilent500:
		return "station outside: nothing answers where the plan says the gateway is. Look at the address that the public name resolves to, and at the router in front of the gateway (gateways/…/outside)"
	case reason.FaultCertificate:
		return "station login: the device does not accept the gateway's certificate (tunnels/…/certificate): " + err.Error()
	case reason.FaultRefused:
		return "station login: " + err.Error() + "; the journal says why"
	}
	return "station login: " + err.Error()
}

// Answered tells whether what was seen counts as reached: what must be reached must serve, unless a whole network is meant.
func (r Result) Answered() bool {
	if r.Want && !r.AnyAnswer {
		return r.Seen.Served
	}
	return r.Seen.Reached
}

// judge compares what was seen with what was expected and computed, and works out where a difference most likely lies.
func (r *Report) judge() {
	for i := range r.Results {
		res := &r.Results[i]
		if res.Untried {
			continue
		}
		if res.Edge {
			r.judgeEdge(res)
			continue
		}
		got := res.Answered()
		if res.Search && r.searched(res) {
			continue
		}
		res.OK = got == res.Want
		if res.Home != "" {
			res.Computed = false // from here
			res.Likely = fmt.Sprintf("station device: the network here, %s, hides %s: devices prefer their own network to a route that is no more specific. Route single hosts or smaller prefixes (passages/%s/routes)", res.Home, cmp.Or(res.Network, res.Place), r.Passage)
		}
		if res.Before != nil && res.Before.Reached {
			res.OK = false
			res.Likely = "it answers without the tunnel too: this vantage says nothing about the tunnel"
		}
		if !res.OK {
			r.Missed++
		}
		if got != res.Computed && res.Before.unreached() {
			r.Differs++
		}
	}
	for i := range r.Results {
		res := &r.Results[i]
		if res.OK || res.Untried || res.Likely != "" {
			if res.Home != "" && !slices.Contains(r.Causes, res.Likely) {
				r.Causes = append(r.Causes, res.Likely)
			}
			continue
		}
		switch {
		case !res.Want && res.Seen.Reached && res.Computed:
			res.Likely = "station rules: the plan permits it"
		case !res.Want:
			res.Likely = "the plan does not permit it, yet it is reached: the gateway's forwarding is at fault, please report it"
		case !res.Computed:
			res.Likely = fmt.Sprintf("the plan does not let it through: yl journey --from %s --to %s --service %s shows where",
				r.journeyFrom(), res.Dst, res.Service)
		default:
			res.Likely = r.surroundings(res)
			if !slices.Contains(r.Causes, res.Likely) {
				r.Causes = append(r.Causes, res.Likely)
			}
		}
	}
	r.OK = r.Missed == 0 && r.Differs == 0
	for _, c := range r.Checks {
		if !c.OK {
			r.OK = false
			r.Causes = append(r.Causes, c.Words)
		}
	}
}

// searched tells whether nothing is known of a trial that only looked for somebody: silence says nothing, unless the gateway itself refused
// what must not get there.
func (r *Report) searched(res *Result) bool {
	if res.Seen.Reached || !res.Want && r.refusedByGateway(res) {
		return false
	}
	res.Untried, res.OK = true, true
	return true
}

// refusedByGateway tells whether the gateway itself said that it refuses a packet.
func (r *Report) refusedByGateway(res *Result) bool {
	return res.Seen.Refused && slices.ContainsFunc(r.own,
		func(a netip.Addr) bool {
			return res.Seen.Among(reason.RouterSaid) && res.Seen.With[reason.By] == a.String()
		})
}

// judgeEdge holds a boundary packet against what was computed: one that is computed to pass must not be refused, and one that is not must
// not be answered. Both sides' evidence is told.
func (r *Report) judgeEdge(res *Result) {
	byGateway := r.refusedByGateway(res)
	res.OK = !(res.Computed && byGateway) && !(!res.Computed && res.Seen.Reached)
	if res.OK {
		return
	}
	r.Missed++
	r.Differs++
	computed := "refused"
	if res.Computed {
		computed = "let through"
	}
	res.Likely = fmt.Sprintf("computed and tried differ at a boundary: %s by %s is computed to be %s by the gateway, and was seen: %s. yl journey --from %s --to %s --service %s shows the computed way; if the newest revision is what runs, please report it",
		res.Place, res.Service, computed, res.Seen.Words, r.journeyFrom(), res.Dst, res.Service)
	r.Causes = append(r.Causes, res.Likely)
}

// journeyFrom is how yl journey is told whose journey it is.
func (r *Report) journeyFrom() string {
	if r.Tester || r.User == "" {
		return "group:" + strings.SplitN(r.Class, " + ", 2)[0]
	}
	return r.User
}

func (s *Seen) unreached() bool { return s == nil || !s.Reached }

// surroundings says what most likely differs where the plan lets a packet through and nothing comes of it.
func (r *Report) surroundings(res *Result) string {
	if res.Seen.Among(reason.NameUnresolved, reason.NameServerSilent, reason.NameUnknown, reason.NameElsewhere) {
		return fmt.Sprintf("station names: %s (hosts/%s/dns, the name server)", res.Seen.Words, res.Place)
	}
	if res.Seen.Reached {
		return fmt.Sprintf("station host: %s is reached, but does not listen on %s (hosts/%s): start the service there, or correct the plan", res.Place, res.Service, res.Place)
	}
	hostAlive, networkAlive := false, false
	for _, other := range r.Results {
		if other.Want && other.Seen.Reached && other.Network == res.Network && other.Dst.Is4() == res.Dst.Is4() {
			networkAlive = true
			hostAlive = hostAlive || other.Dst == res.Dst
		}
	}
	switch {
	case res.Seen.Among(reason.RouterSaid):
		return fmt.Sprintf("station onward: a router on the way to %s gives it up: %s", res.Place, res.Seen.Words)
	case hostAlive:
		return fmt.Sprintf("station host: %s answers other services but not %s: a packet filter on the host, or the service (hosts/%s)", res.Place, res.Service, res.Place)
	case networkAlive:
		return fmt.Sprintf("station host: others on network %s answer, %s does not: it is down, or has another address (hosts/%s)", res.Network, res.Place, res.Place)
	case res.Network == "":
		return "station translation: the gateway sends it to the internet and nothing comes back: its way out, or the translation to its outside address"
	}
	return fmt.Sprintf("station return: nothing on network %s answers, though the plan says its router knows the way back to the pool: look at that router's routes (networks/%s/router)", res.Network, res.Network)
}
