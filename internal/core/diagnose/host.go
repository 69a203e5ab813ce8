package diagnose

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// Check is one of the status's checks that is not OK.
type Check struct {
	Name    string // what it is about, as in the status
	Failed  bool   // otherwise a warning
	Words   string
	Fix     string
	Setting string
	Why     reason.Reason // of checks of the gateway host
}

// hostSure is how sure a check of the gateway host must be for what trials saw behind it to follow from it.
const hostSure = 90

// host adds the checks that bear on the complaint. Where one of them explains it, what trials saw inside follows from that: a server that
// cannot be reached looks like one that is down.
func (f *finder) host() {
	explained := ""
	for _, c := range f.Checks {
		sure := f.bears(c)
		if sure == 0 {
			continue
		}
		f.add(Cause{
			Code: cmp.Or(string(c.Why.Code), "status-"+c.Name), Sure: sure, Words: c.Words, Setting: c.Setting,
			Fix: cmp.Or(hostFix(c.Why), c.Fix, "yl status, and yl host check on the gateway host, say what to change"),
		}, "the status: check "+c.Name)
		if sure >= hostSure && f.aboutReach() {
			explained = c.Words
		}
	}
	for i := range f.causes {
		if c := &f.causes[i]; explained != "" && slices.Contains(seenInside, c.Code) {
			c.Sure = min(c.Sure, 50)
			c.Evidence = append(c.Evidence, "it may follow from this: "+explained)
		}
	}
}

// seenInside are causes that trials show, and that look the same where the gateway host itself is at fault.
var seenInside = []string{
	"name-server-down", "router-refuses", "network-silent", "host-filters", "host-down", "service-down", "no-answer-from-inside",
	"internet-silent", "hangs-after-connecting",
}

func (f *finder) aboutReach() bool { return f.Complaint != CannotConnect && f.Complaint != Drops }

// hostFix is the fix of a check of the gateway host.
func hostFix(why reason.Reason) string {
	switch why.Code {
	case reason.LinkDown:
		return fmt.Sprintf("check the cable of %[1]s and its other end: ip link show %[1]s", why.With[reason.Link])
	case reason.OthersDrop:
		return fmt.Sprintf("accept %s and %s in that chain", why.With[reason.Link], why.With[reason.Addresses])
	case reason.OthersRefuse:
		return "remove that rule, or accept it before: nft -a list ruleset"
	case reason.OthersTranslate:
		return "exclude " + why.With[reason.Addresses] + " there"
	case reason.AnswersNowhere, reason.NoInsidePort:
		return "yl status on the gateway host says what it cannot open"
	}
	return ""
}

// bears tells how surely a check explains the complaint; 0: it does not bear on it.
func (f *finder) bears(c Check) int {
	connect := f.Complaint == CannotConnect
	switch c.Why.Code {
	case "":
	case reason.GatewayNotReached, reason.NothingRunsHere:
		return 97
	case reason.LinkDown, reason.NotAttached, reason.NoWayOut:
		network := cmp.Or(c.Why.With[reason.Network], inside.Internet)
		if connect {
			return map[bool]int{true: 96}[network == inside.Internet]
		}
		return f.onlyReach(f.by(network))
	case reason.OthersDrop, reason.OthersTranslate:
		return f.onlyReach(map[bool]int{true: 96, false: 60}[f.noneReached()])
	case reason.OthersRefuse:
		return f.refusedThere(c.Why.With[reason.Service])
	case reason.TimeoutsNotTaken, reason.RouterAdvertisements, reason.AddressInUse: // nobody is cut off by these
		return 0
	default: // routes, settings, rules, the device
		return f.onlyReach(map[bool]int{true: 91, false: 64}[f.noneReached()])
	}
	sure := map[string]int{
		"plan": 95, "ports": 94, "outside": 94, "name": 85, "certificate": 96, "disk": 95, "clock": 70, "authorities": 60,
	}[c.Name]
	switch {
	case c.Name == "sources" && (f.Source == "" && f.Known || f.Source != "" && c.Setting != "sources/"+f.Source):
		return 0 // another's
	case c.Name == "sources":
		sure = 96
	case c.Name == "certificate" && c.Setting != "" && !f.uses(c.Setting):
		return 0
	}
	switch {
	case !connect && (c.Name != "plan" || !c.Failed):
		return 0
	case !c.Failed:
		return min(sure, map[string]int{"ports": 75, "outside": 75}[c.Name])
	}
	return sure
}

func (f *finder) onlyReach(sure int) int {
	if !f.aboutReach() {
		return 0
	}
	return sure
}

// uses tells whether a setting is of a tunnel of the person's passage.
func (f *finder) uses(setting string) bool {
	return f.Class == nil || f.Class.Passage == nil || slices.ContainsFunc(f.Class.Passage.Tunnels, func(t string) bool {
		return strings.HasPrefix(setting, "tunnels/"+t+"/")
	})
}

// by tells how surely what is complained of fails by a network that the gateway does not reach.
func (f *finder) by(network string) int {
	if f.Model == nil {
		return 80
	}
	dst := []netip.Addr{}
	switch {
	case f.Packet != nil:
		dst = append(dst, f.Packet.Dst)
	case f.Class != nil && f.Class.Passage != nil:
		dst = append(dst, f.Class.Passage.DNS.Servers...)
	}
	for _, a := range dst {
		if out, ok, _ := f.Model.RouteTo(site.Packet{Dst: a, Service: netset.PortPoint(netset.TCP, 80)}); ok && out.Network == network {
			return 97
		}
	}
	if f.Packet != nil {
		return 0
	}
	return 91
}

// noneReached tells whether trials of now tried what is meant to be reached inside, and reached none of it.
func (f *finder) noneReached() bool {
	tried := false
	for _, t := range f.Trials {
		for _, x := range t.Results {
			if x.Want && x.Network != "" {
				if x.Reached {
					return false
				}
				tried = true
			}
		}
	}
	return tried
}

// refusedThere tells how surely a rule of somebody else's explains the complaint, by the services that it drops.
func (f *finder) refusedThere(services string) int {
	dropped := func(service string) bool { return strings.Contains(services, service+" (") }
	ike := dropped("udp/500") || dropped("udp/4500")
	if f.Complaint == CannotConnect {
		return map[bool]int{true: 96}[ike]
	}
	if !f.aboutReach() {
		return 0
	}
	failed, fine := false, false
	for _, t := range f.Trials {
		for _, x := range t.Results {
			if x.Want && dropped(x.Service) && (f.Packet == nil || x.Dst == f.Packet.Dst) {
				failed, fine = failed || !x.Reached, fine || x.Reached
			}
		}
	}
	switch {
	case f.Packet != nil && !dropped(f.Packet.Service.String()) && f.Complaint != NamesFail:
		return 0
	case f.Complaint == NamesFail && !dropped("udp/53"):
		return 0
	case failed && !fine:
		return 97
	case fine:
		return 0
	}
	return map[bool]int{true: 75, false: 50}[f.Packet != nil]
}
