package diagnose

import (
	"fmt"
	"strings"
	"time"
)

// sign is how a line of the journal tells of a cause: by words that the gateway writes. The tests provoke each of them.
type sign struct{ has, code, words, setting, fix string }

// refusals are signs in lines of kind refused. In words and fixes, USER stands for the person.
var refusals = []sign{
	{"wrong password", "wrong-password", "the device gives a wrong password", "", "let USER type it again (capital letters count), or set a new one: yl users password USER"},
	{"there is no such user", "unknown-user", "the device gives a user name that does not exist", "", "correct the user name on the device"},
	{"the user is switched off", "switched-off", "USER is switched off", "", "switch the user on: yl users change USER --on"},
	{"no passage admits", "no-passage", "the password is right, but no passage admits a group of USER", "passages", "put the user into a group that a passage admits, or admit the group by a passage"},
	{"comes by tunnel", "other-tunnel", "the device dials another tunnel than the passage comes by", "PASSAGE/tunnels", "correct the name (remote identity) on the device, or add the tunnel to the passage"},
	{"may connect only in the hours", "outside-hours", "people of this passage may not connect at this hour", "PASSAGE/limits/hours", "wait for the hours, or widen them"},
	{"lets one person have", "too-many-sessions", "USER has as many sessions already as one person may", "PASSAGE/limits/per-person", "end the other session (yl sessions end USER), raise per-person, or say newest-wins: true"},
	{"as many as it may", "passage-full", "the passage has as many sessions as it may", "PASSAGE/limits/sessions", "raise the limit, or end sessions that nobody uses"},
	{"has no free address", "pool-exhausted", "the pool has no address left", "POOL", "make the pool larger, or give the passage an idle limit"},
	{"agreed on algorithms that only another tunnel has", "algorithms-of-other-tunnel", "the device agreed on algorithms of another tunnel than the one it asks for", "TUNNEL/suites", "let both tunnels have the suite, or change what the device offers"},
	{"offers no set of algorithms", "no-common-algorithm", "the device offers no set of algorithms that the tunnel has", "TUNNEL/suites", "add one of what it offers to the tunnel's suites, or change the device"},
	{"offers no algorithm for the traffic", "no-common-traffic-algorithm", "the device offers no algorithm for traffic that the tunnel has", "TUNNEL/suites", "add one of what it offers to the tunnel's suites, or change the device"},
	{"the device dials", "dials-wrong-name", "the device asks for a name that this gateway does not have", "TUNNEL/identity", "correct the remote identity on the device"},
	{"by certificate or shared key", "wrong-login-method", "the device tries to log in by certificate or shared key", "TUNNEL/login", "set user name and password (EAP-MSCHAPv2) on the device"},
	{"asks for no address", "asks-no-address", "the device asks for no address of the pool", "", "switch on the virtual address on the device"},
	{"nothing in common with its passage", "selectors-foreign", "the device asks for networks that its passage does not route", "PASSAGE/routes", "let the device ask for everything: the gateway narrows it"},
	{"does not accept", "certificate-not-accepted", "the device does not accept the gateway's certificate", "TUNNEL/certificate", "install the authority's certificate on the device (yl certificate authority), and let it dial the name that the certificate holds"},
	{"shown the certificate", "certificate-not-accepted", "the device does not accept the gateway's certificate, as it seems", "TUNNEL/certificate", "install the authority's certificate on the device (yl certificate authority), and let it dial the name that the certificate holds"},
	{"nothing by UDP 4500", "port-4500-lost", "the device is heard by UDP 500 and not by UDP 4500", "GATEWAY/outside", "let the routers on the way pass UDP 4500, or offer a tcp-port"},
	{"stopped answering", "login-broken-off", "the device fell silent in the middle of the login", "", "try again; if it stays so, a network on the way loses larger packets"},
}

// ends are signs in why sessions ended.
var ends = []sign{
	{"sent nothing for", "idle-limit", "sessions end when the device sends nothing for a while", "PASSAGE/limits/idle", "raise the idle limit, or let the device keep it alive"},
	{"the longest that passage", "longest-limit", "sessions end when they have lasted as long as they may", "PASSAGE/limits/longest", "raise the limit; the device can connect again at once"},
	{"are over", "hours-over", "sessions end when the hours of the passage are over", "PASSAGE/limits/hours", "widen the hours"},
	{"newest session win", "logged-in-elsewhere", "the same user logs in from a second device, and the newest session wins", "PASSAGE/limits/per-person", "give each person a user of their own, or raise per-person"},
	{"ended by administrator", "ended-by-administrator", "an administrator ended the session", "", "ask the administrator whom the journal names"},
	{"the plan changed", "plan-changed", "a commit changed what the device is given, so its session ended", "", "the device can connect again at once; commit such changes when few are connected"},
	{"did not renew", "device-does-not-renew", "the device does not renew its keys before they may no longer be used", "TUNNEL/lifetimes", "raise the tunnel's lifetimes above the device's own, or shorten those on the device"},
	{"no longer answers", "device-vanishes", "the device stops answering: its network forgets it, or it goes to sleep", "TUNNEL/keepalive", "shorten keepalive (20s), and let the device connect again by itself"},
	{"the gateway stops", "gateway-restarts", "the gateway was stopped", "", "look at when and why the service was restarted"},
	{"the device ended", "device-ended", "the device itself ends its sessions", "", "look at the device: its idle or power settings, or a person who disconnects"},
}

// signOf finds what a line tells.
func signOf(signs []sign, words string) *sign {
	for i := range signs {
		if strings.Contains(words, signs[i].has) {
			return &signs[i]
		}
	}
	return nil
}

// cause makes a cause of a sign.
func (f *finder) cause(s *sign, sure int) Cause {
	fill := strings.NewReplacer("USER", f.User)
	setting := s.setting
	if i := strings.IndexByte(setting, '/'); i > 0 || setting == "POOL" {
		setting = f.settingOf(setting)
	}
	return Cause{Code: s.code, Sure: sure, Words: fill.Replace(s.words), Setting: setting, Fix: fill.Replace(s.fix)}
}

// settingOf puts the person's own passage, pool, tunnel and gateway into a setting.
func (f *finder) settingOf(path string) string {
	passage, pool, tunnel, gateway := "", "", "", "gateways"
	if f.Model != nil {
		gateway = "gateways/" + f.Model.Gateway.Name
	}
	if f.Class != nil && f.Class.Passage != nil {
		passage, pool = "passages/"+f.Class.Passage.Name, "pools/"+f.Class.Passage.Passage.Pool
		if len(f.Class.Passage.Tunnels) > 0 {
			tunnel = "tunnels/" + f.Class.Passage.Tunnels[0]
		}
	}
	return strings.Trim(strings.NewReplacer("PASSAGE", passage, "POOL", pool, "TUNNEL", tunnel, "GATEWAY", gateway).Replace(path), "/")
}

// said quotes a line as evidence.
func (f *finder) said(l Line) string {
	text := fmt.Sprintf("the journal, %s ago", f.Now.Sub(l.At).Round(time.Second))
	if l.From != "" {
		text += ", from " + l.From
	}
	text += ": " + l.Words
	if l.Offered != "" {
		text += "; the device offers " + l.Offered + ", the tunnel has " + l.Wanted
	}
	return text
}
