package diagnose

import (
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/reason"
)

// sign is what a reason that was journalled tells of a cause. In words and fixes, USER stands for the person; in settings PASSAGE, POOL,
// TUNNEL, AUTHORITY, SOURCE and GATEWAY stand for those that the reason names, or else for the person's own.
type sign struct{ code, words, setting, fix string }

const notAccepted = "install the authority's certificate on the device (yl certificate authority), let it dial the name that the certificate holds, and look at the device's clock"

// refusals are signs in why logins were refused.
var refusals = map[reason.Code]sign{
	reason.WrongPassword:          {"wrong-password", "the device gives a wrong password", "", "let USER type it again (capital letters count), or set a new one: yl users password USER"},
	reason.GuessWaits:             {"wrong-password", "the device gave wrong passwords, and is heard again only after a while", "", "set the password right on the device; yl slowed lift USER lets it be tried at once"},
	reason.UnknownUser:            {"unknown-user", "the device gives a user name that does not exist", "", "correct the user name on the device"},
	reason.SwitchedOff:            {"switched-off", "USER is switched off", "", "switch the user on: yl users change USER --on"},
	reason.PersonOver:             {"person-over", "USER might connect until a moment that is over", "", "let them connect longer: yl users change USER --until DAY"},
	reason.PersonHours:            {"person-outside-hours", "USER may not connect at this hour", "", "wait for the hours, or give others: yl users change USER --hours NAME"},
	reason.PersonTunnel:           {"person-other-tunnel", "USER may not come by the tunnel that the device dials", "", "set the device to a tunnel that they may come by, or let them come by this one: yl users change USER --tunnel NAME"},
	reason.PersonSessions:         {"person-too-many-sessions", "USER has as many sessions already as they may", "", "end the other session (yl sessions end USER), or let them have more: yl users change USER --sessions N"},
	reason.PasswordToChange:       {"password-to-change", "USER has a password that was made for them, and must choose another before they can connect", "", "send them a link by which they choose one: yl users password-link USER"},
	reason.PasswordKeptOtherwise:  {"password-kept-otherwise", "the password of USER is kept such that this way of logging in cannot be judged by it", "TUNNEL/login", "let them choose another by a link (yl users password-link USER), or log in once by a tunnel with eap-ttls"},
	reason.PasswordUnfit:          {"password-unfit", "USER chose a password that will not do", "", "let them choose a longer one, of four unrelated words"},
	reason.SourceAway:             {"source-away", "the source where USER is kept does not answer", "SOURCE/servers", "look at its server (yl sources try NAME USER says what fails); the service's own people come in meanwhile"},
	reason.SourceAccount:          {"source-account", "the source where USER is kept refuses the service's own account", "SOURCE/account", "correct the account, or keep its password anew (yl secret keep)"},
	reason.SourceMistaken:         {"source-mistaken", "what the plan says of the source where USER is kept is wrong", "SOURCE", "correct it (yl sources try NAME USER says what is wrong)"},
	reason.SourceRefuses:          {"source-refuses", "the source that was asked about USER refuses them, by name, by password or by its own rules", "SOURCE", "let USER type name and password again; the server's own record says which of both it was"},
	reason.NameHeld:               {"source-name-held", "another source has somebody of the name of USER, and that name is theirs here", "SOURCE", "rename one of both where they are kept; once the other source has nobody of that name, let the service forget its person: yl people forget USER"},
	reason.SourceBars:             {"source-bars", "the source where USER is kept does not let them in", "SOURCE", "mend it there: they are switched off, locked out, or their time is over"},
	reason.EAPTLSFailed:           {"eap-tls-failed", "the TLS handshake of the login failed", "TUNNEL/certificate", "let the device believe the gateway's certificate for this login too"},
	reason.EAPInnerOther:          {"eap-inner-other", "the device proves itself inside TLS by a way that is not taken", "TUNNEL/login", "set the inner method to PAP on the device"},
	reason.PassageShut:            {"passage-shut", "the person's passage comes by tunnels that are off", "PASSAGE/tunnels", "switch one of its tunnels on, or give the passage another one"},
	reason.NoPassage:              {"no-passage", "the person is authenticated, but no passage admits a group of USER", "passages", "put the user into a group that a passage admits, or admit the group by a passage"},
	reason.OtherTunnel:            {"other-tunnel", "the device dials another tunnel than the passage comes by", "PASSAGE/tunnels", "correct the name (remote identity) on the device, or add the tunnel to the passage"},
	reason.OutsideHours:           {"outside-hours", "people of this passage may not connect at this hour", "PASSAGE/limits/hours", "wait for the hours, or widen them"},
	reason.TooManySessions:        {"too-many-sessions", "USER has as many sessions already as one person may", "PASSAGE/limits/per-person", "end the other session (yl sessions end USER), raise per-person, or say newest-wins: true"},
	reason.PassageFull:            {"passage-full", "the passage has as many sessions as it may", "PASSAGE/limits/sessions", "raise the limit, or end sessions that nobody uses"},
	reason.LoginsLater:            {"logins-later", "the service did not answer when they tried, so nobody could judge the login", "", "nothing if the service is back: their device tries again; else yl status"},
	reason.PoolOthers:             {"pool-others", "others on the network that the pool is carved from have its addresses", "POOL", "keep DHCP and those machines off the pool, or exclude what they have"},
	reason.OwnAddressOutside:      {"own-address-outside", "the source where USER is kept gives an address that the pool does not lease", "POOL", "have the source give another (Framed-IP-Address), or let the pool lease it"},
	reason.OwnAddressTaken:        {"own-address-taken", "the address that the source where USER is kept gives is another session's", "POOL", "end that session, or have the source give each person an address of their own"},
	reason.PoolExhausted:          {"pool-exhausted", "the pool has no address left", "POOL", "make the pool larger, or give the passage an idle limit"},
	reason.AlgorithmsElsewhere:    {"algorithms-of-other-tunnel", "the device agreed on algorithms of another tunnel than the one it asks for", "TUNNEL/algorithms", "let both tunnels have what it offers, or set the device up (docs/devices.md)"},
	reason.NoCommonAlgorithm:      {"no-common-algorithm", "the device offers no set of algorithms that the tunnel has", "TUNNEL/algorithms", "add something of what it offers to the tunnel's algorithms, or set the device up (docs/devices.md)"},
	reason.NoCommonTrafficCipher:  {"no-common-traffic-algorithm", "the device offers no algorithm for traffic that the tunnel has", "TUNNEL/algorithms", "add something of what it offers to the tunnel's algorithms, or set the device up (docs/devices.md)"},
	reason.DialsWrongName:         {"dials-wrong-name", "the device asks for a name that this gateway does not have", "TUNNEL/identity", "correct the remote identity on the device"},
	reason.SentOn:                 {"sent-on", "the device was sent on to another gateway", "TUNNEL/send-to", "look there; or leave send-to out, and it is served here"},
	reason.KeyUnreadable:          {"key-unreadable", "the device shows no certificate or key that can be read", "TUNNEL/login", "choose the certificate or key of the kit on the device"},
	reason.KeyUnknown:             {"key-unknown", "the device shows a key that nobody here has", "", "add its public key to the person (yl users keys add), or choose the right one on the device"},
	reason.KeyRevoked:             {"key-revoked", "the device's key was taken back", "", "make a new one on the device, and add it to the person"},
	reason.KeyExpired:             {"key-expired", "the device's certificate is not valid now", "", "issue another one for its key (yl users keys add, with its signing request); look at the device's clock"},
	reason.KeyOther:               {"key-other", "the device shows another certificate than the one that was made for its key", "", "use the newest certificate that was issued, or issue another one"},
	reason.KeyStranger:            {"certificate-of-stranger", "the device shows a certificate of an authority that the tunnel does not take", "TUNNEL/authorities", "choose the right certificate on the device, or let the tunnel take its authority (yl authorities try NAME FILE says more)"},
	reason.KeyMisused:             {"certificate-not-for-login", "the device shows a certificate that is not made for logging in", "TUNNEL/authorities", "have the authority issue one with clientAuth, or choose another one on the device"},
	reason.KeyNameless:            {"certificate-names-nobody", "the device's certificate does not say who it is where the plan looks", "AUTHORITY/name-from", "set name-from and domain to where the authority writes names (yl authorities try NAME FILE says what is there)"},
	reason.KeyNobody:              {"certificate-names-no-user", "the device's certificate is that of somebody who is no user here", "AUTHORITY/name-from", "add a user of that name, or set name-from and domain right"},
	reason.KeyRevokedThere:        {"certificate-revoked-there", "the device's certificate was revoked by the authority that issued it", "AUTHORITY/revocation", "the person needs a new one from that authority"},
	reason.RevocationUnknown:      {"revocation-unknown", "it cannot be found out whether the device's certificate is revoked", "AUTHORITY/lists", "let the service reach the authority's server (yl authorities list says what fails), give it a list by hand (yl authorities give-list NAME FILE), or say when-unknown: admit"},
	reason.LoginAnew:              {"login-anew", "the device could not come back by what it had, for something has changed since", "", "nothing: it logs in instead; give it the password if it asks"},
	reason.SharedKeyWaits:         {"wrong-password", "the device gave wrong shared keys, and is heard again only after a while", "", "enter the shared key again on the device"},
	reason.WrongLoginMethod:       {"wrong-login-method", "the device tries to log in by another way than the tunnel has", "TUNNEL/login", "set the device to what login says: user and password (EAP-MSCHAPv2), the certificate that was issued for it, or its key"},
	reason.EAPOtherType:           {"wrong-login-method", "the device asks for another method of EAP", "TUNNEL/login", "set user name and password (EAP-MSCHAPv2) on the device"},
	reason.AsksNoAddress:          {"asks-no-address", "the device asks for no address of the pool", "", "switch on the virtual address on the device"},
	reason.AsksOtherFamily:        {"asks-other-family", "the device asks only for addresses of a family that the pool does not have", "POOL", "give the pool a range of that family, or let the device ask for the other"},
	reason.SelectorsForeign:       {"selectors-foreign", "the device asks for networks that its passage does not route", "PASSAGE/routes", "let the device ask for everything: the gateway narrows it"},
	reason.CertificateNotAccepted: {"certificate-not-accepted", "the device does not accept the gateway's certificate", "TUNNEL/certificate", notAccepted},
	reason.SilentAtCertificate:    {"certificate-not-accepted", "the device does not accept the gateway's certificate, as it seems", "TUNNEL/certificate", notAccepted},
	reason.SilentOn4500:           {"port-4500-lost", "the device is heard by UDP 500 and not by UDP 4500", "GATEWAY/outside", "let the routers on the way pass UDP 4500, or offer a tcp-port"},
	reason.SilentInLogin:          {"login-broken-off", "the device fell silent in the middle of the login", "", "try again; if it stays so, a network on the way loses larger packets"},
	reason.NotRecorded:            {"not-recorded", "logins cannot be recorded, so nobody is let in", "", "look at the service's log and at the disk of its data folder"},
}

var planChanged = sign{
	"plan-changed", "a commit changed what the device is given, so its session ended", "",
	"the device can connect again at once; commit such changes when few are connected",
}

var doesNotRenew = sign{
	"device-does-not-renew", "the device does not renew its keys before they may no longer be used",
	"TUNNEL/lifetimes", "raise the tunnel's lifetimes above the device's own, or shorten those on the device",
}

// ends are signs in why sessions ended.
var ends = map[reason.Code]sign{
	reason.HeldTooLong:       {"held-too-long", "USER connects, and gives no second factor in time", "PASSAGE/second-factor", "let them open the code page once they are connected, and type the code; without one: yl users second-factor link USER"},
	reason.LeftPlace:         {"left-place", "the device left the places from where no second factor is asked for", "PASSAGE/second-factor/not-from", "the device can connect again at once, and its person gives their code"},
	reason.PlanAsksFactor:    planChanged,
	reason.FactorForgotten:   {"device-lost", "a device of USER's was lost, and their sessions were ended for that", "", "they get another second factor by the link that was made: yl users second-factor link USER"},
	reason.IdleLimit:         {"idle-limit", "sessions end when the device sends nothing for a while", "PASSAGE/limits/idle", "raise the idle limit, or let the device keep it alive"},
	reason.LongestLimit:      {"longest-limit", "sessions end when they have lasted as long as they may", "PASSAGE/limits/longest", "raise the limit; the device can connect again at once"},
	reason.HoursOver:         {"hours-over", "sessions end when the hours of the passage are over", "PASSAGE/limits/hours", "widen the hours"},
	reason.EndedBySource:     {"source-ended", "the source where USER is kept ended their session", "SOURCE", "ask who runs it; its record says why"},
	reason.SourceGone:        {"source-bars", "the source where USER is kept says that they may no longer come in, or has them in other groups", "SOURCE", "mend it there, where they are to come in"},
	reason.PersonLongest:     {"person-longest", "sessions of USER end when they have lasted as long as their source lets them", "", "raise it there (Session-Timeout); the device can connect again at once"},
	reason.PersonIdle:        {"person-idle", "sessions of USER end when the device sends nothing for as long as their source lets it", "", "raise it there (Idle-Timeout)"},
	reason.PersonEnds:        {"person-over", "USER might connect until a moment that is over", "", "let them connect longer: yl users change USER --until DAY"},
	reason.PersonHoursOver:   {"person-outside-hours", "sessions of USER end when their hours are over", "", "give them others: yl users change USER --hours NAME"},
	reason.PersonTunnelGone:  {"person-other-tunnel", "USER may not come by that tunnel any more", "", "let them come by it: yl users change USER --tunnel NAME"},
	reason.LoggedInElsewhere: {"logged-in-elsewhere", "the same user logs in from a second device, and the newest session wins", "PASSAGE/limits/per-person", "give each person a user of their own, or raise per-person"},
	reason.EndedBy:           {"ended-by-administrator", "an administrator ended the session", "", "ask the administrator whom the journal names"},
	reason.UserChanged:       {"user-changed", "USER's groups or state were changed, so their session ended", "", "the device can connect again at once, where the user still may"},
	reason.PlanNoPassage:     planChanged,
	reason.PlanOtherPassage:  planChanged,
	reason.PlanOtherTunnel:   planChanged,
	reason.PlanAddressKept:   planChanged,
	reason.PlanAddressGone:   planChanged,
	reason.PlanOtherRoutes:   planChanged,
	reason.PlanOtherNames:    planChanged,
	reason.KeysNotRenewed:    doesNotRenew,
	reason.CiphersNotRenewed: doesNotRenew,
	reason.NoLongerAnswers:   {"device-vanishes", "the device stops answering: its network forgets it, or it goes to sleep", "TUNNEL/keepalive", "shorten keepalive (20s), or raise limits/patience of the passage where devices sleep longer"},
	reason.CertificateGone:   {"certificate-gone", "the certificate by which the device came in was revoked, is over, or is of an authority that the plan no longer takes", "AUTHORITY/revocation", "the person needs a new one from that authority (yl authorities list says what is gone by)"},
	reason.KeyTakenBack:      {"key-taken-back", "the key by which the device came in was taken back", "", "make a new one on the device, and add it to the person"},
	reason.MovedElsewhere:    {"moved-elsewhere", "sessions end when the device changes from one network to another", "PASSAGE/limits/one-place", "leave one-place out, where people may take their session along"},
	reason.WayUnproved:       {"way-unproved", "the device says that it supports MOBIKE, and does not return the cookie by which its new address is checked", "", "update the device's client; record the session if it stays so"},
	reason.PeerUnreadable:    {"device-unreadable", "the device sends messages that cannot be read", "", "update the device's client; record the session if it stays so"},
	reason.GatewayStops:      {"gateway-restarts", "the gateway was stopped", "", "look at when and why the service was restarted"},
	reason.PeerEnded:         {"device-ended", "the device itself ends its sessions", "", "look at the device: its idle or power settings, or a person who disconnects"},
}

// cause makes a cause of a sign in a reason.
func (f *finder) cause(s sign, why reason.Reason, sure int) Cause {
	fill := strings.NewReplacer("USER", f.User)
	setting := s.setting
	if i := strings.IndexByte(setting, '/'); i > 0 || setting == "POOL" || setting == "SOURCE" {
		setting = f.settingFor(setting, why)
	}
	c := Cause{Code: s.code, Sure: sure, Words: fill.Replace(s.words), Setting: setting, Fix: fill.Replace(s.fix)}
	if offered := why.With[reason.Offered]; strings.HasSuffix(setting, "/algorithms") && offered != "" {
		f.least(&c, offered)
	}
	return c
}

// least makes the fix the smallest addition to the tunnel's algorithms that lets the device in; it is one that can be applied unless it
// would add what no longer withstands attacks.
func (f *finder) least(c *Cause, offered string) {
	if f.Model == nil {
		return
	}
	t := f.Model.Names.Tunnels[strings.TrimSuffix(strings.TrimPrefix(c.Setting, "tunnels/"), "/algorithms")]
	if t == nil {
		return
	}
	add, ok := t.IKEv2().Set().Least(algorithm.Offers(offered))
	if !ok || add.None() {
		return
	}
	c.Fix = fmt.Sprintf("add %s to the tunnel's algorithms, or set the device up with what the tunnel has (docs/devices.md)", add)
	if !add.Weak() {
		c.Mend = t.Adding(add)
	}
}

// settingOf puts the person's own passage, pool, tunnel and gateway into a setting.
func (f *finder) settingOf(path string) string { return f.settingFor(path, reason.Reason{}) }

// settingFor is settingOf with what a reason names in place of the person's own.
func (f *finder) settingFor(path string, why reason.Reason) string {
	passage, pool, tunnel, authority, gateway, source := "", "", "", "authorities", "gateways", "sources"
	if f.Model != nil {
		gateway = "gateways/" + f.Model.Gateway.Name
	}
	if f.Class != nil && f.Class.Passage != nil {
		passage, pool = "passages/"+f.Class.Passage.Name, "pools/"+f.Class.Passage.Passage.Pool
		if len(f.Class.Passage.Tunnels) > 0 {
			tunnel = "tunnels/" + f.Class.Passage.Tunnels[0]
		}
	}
	if n := why.With[reason.Source]; n != "" && strings.HasPrefix(string(why.Code), "source-") { // elsewhere it is an address
		source += "/" + n
	}
	for _, of := range []struct {
		param reason.Param
		in    string
		to    *string
	}{
		{reason.Passage, "passages/", &passage},
		{reason.Pool, "pools/", &pool},
		{reason.Tunnel, "tunnels/", &tunnel},
		{reason.Authority, "authorities/", &authority},
	} {
		if name := why.With[of.param]; name != "" {
			*of.to = of.in + name
		}
	}
	return strings.Trim(strings.NewReplacer("PASSAGE", passage, "POOL", pool, "TUNNEL", tunnel, "GATEWAY", gateway, "AUTHORITY",
		authority, "SOURCE", source).
		Replace(path), "/")
}

// said quotes a line as evidence.
func (f *finder) said(l Line) string {
	text := fmt.Sprintf("the journal, %s ago", f.Now.Sub(l.At).Round(time.Second))
	if l.From != "" {
		text += ", from " + l.From
	}
	text += ": " + l.Words
	if offered := l.Why.With[reason.Offered]; offered != "" {
		text += "; the device offers " + offered + ", the tunnel has " + l.Why.With[reason.Wanted]
	}
	return text
}
