package diagnose

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/reason"
)

// cannotConnect looks at what the journal says of the person's attempts, newest first; then at whether anybody gets in from outside.
func (f *finder) cannotConnect() {
	attempts, newest := 0, true
	for _, l := range f.Journal {
		if l.Kind == "login" && f.fresh(l.At) { // it arrived, whatever came of it
			attempts++
		}
		if l.Kind == "login" && newest && f.Now.Sub(l.At) < 10*time.Minute {
			f.add(Cause{
				Code: "connected-after-all", Sure: 60, Words: f.User + " logged in " + f.Now.Sub(l.At).Round(time.Second).String() + " ago",
				Fix: "ask again: the trouble may be over, or it may be about what is reached",
			}, f.said(l))
		}
		newest = newest && l.Kind != "login" && l.Kind != reason.KindRefused
		if l.Kind != reason.KindRefused || !f.fresh(l.At) || !f.explains(l) {
			continue
		}
		if s, ok := refusals[l.Why.Code]; ok {
			f.add(f.cause(s, l.Why, max(40, 96-4*attempts)), f.said(l)) // the last attempt says most
		}
		if attempts++; attempts == 4 {
			break
		}
	}
	f.anonymous(attempts)
	f.unusable()
	f.hours()
	f.pool()
	f.outside(attempts)
}

// anonymous looks at refusals that name nobody: before a device has said who it is, or with a name that does not exist.
func (f *finder) anonymous(attempts int) {
	seen := 0
	for _, l := range f.Others {
		if !f.fresh(l.At) || seen == 4 {
			break
		}
		if !f.explains(l) {
			continue
		}
		s, ok := refusals[l.Why.Code]
		if !ok {
			continue
		}
		seen++
		sure := 45 // it may be anybody's
		switch {
		case l.Why.With[reason.Claimed] == f.User:
			sure = 94 // it claimed to be this person
		case l.User != "" && check.Slips(l.User, f.User) <= 2:
			sure = 88
			f.add(Cause{
				Code: "mistyped-name", Sure: sure,
				Words: fmt.Sprintf("somebody tried to log in as %q, which differs from %s by a slip of the hand", l.User, f.User), Fix: "correct the user name on the device: " + f.User,
			}, f.said(l))
			continue
		case l.User != "":
			continue // somebody else's trouble
		case attempts == 0 && f.Now.Sub(l.At) < time.Hour:
			sure = 75 // nothing else arrived from this person
		}
		f.add(f.cause(s, l.Why, sure), f.said(l))
	}
}

func (f *finder) hours() {
	if hours := f.Model.Names.Hours[f.Own.Hours]; f.Own.Hours != "" && (hours == nil || !hours.Hold(f.Model.Local(f.Now))) {
		f.add(f.cause(refusals[reason.PersonHours], reason.Reason{}, 92), "the list of users: the hours "+f.Own.Hours+" do not hold now")
	}
	if f.MustChange {
		f.add(f.cause(refusals[reason.PasswordToChange], reason.Reason{}, 55), "the list of users: a password that was made for them")
	}
	if f.Class == nil || f.Class.Passage == nil || f.Class.Passage.Limits.Hours == "" {
		return
	}
	name := f.Class.Passage.Limits.Hours
	if hours := f.Model.Names.Hours[name]; hours == nil || !hours.Hold(f.Model.Local(f.Now)) {
		f.add(f.cause(refusals[reason.OutsideHours], reason.Reason{}, 90), "the plan: the hours "+name+" do not hold now")
	}
}

func (f *finder) pool() {
	if f.Class != nil && f.Class.Passage != nil && f.Free == 0 && len(f.Sessions) == 0 {
		f.add(f.cause(refusals[reason.PoolExhausted], reason.Reason{}, 85), "the pool has no free address now")
	}
}

// answers are what keeps a device out once the gateway has answered it.
var answers = []reason.Code{reason.FaultStopped, reason.FaultCertificate, reason.FaultRefused, reason.FaultSilent4500}

// outside looks at trials from outside: does anybody get in?
func (f *finder) outside(attempts int) {
	silent, fine, inside := "", "", ""
	arrives := false // something of a trial did, whatever became of it
	for _, t := range f.Trials {
		arrives = arrives || !t.Inside && slices.Contains(answers, t.Fault)
		at := fmt.Sprintf("a trial from %s, %s ago: %s", t.Vantage, f.Now.Sub(t.At).Round(time.Second), t.Login)
		switch {
		case t.Inside && t.Connected:
			inside = cmp.Or(inside, t.Vantage)
		case t.Connected:
			fine = cmp.Or(fine, t.Vantage)
		case t.Fault == reason.FaultStopped: // the way is open: what does not judge says so itself, in the journal
			f.add(Cause{
				Code: "login-not-judged", Sure: 70, Words: "the gateway answers, and what judges logins does not: a directory or RADIUS server, or the service's disk",
				Fix: "look at what the journal says of this login, and at yl status",
			}, at)
		case t.Fault == reason.FaultCertificate:
			f.add(f.cause(refusals[reason.CertificateNotAccepted], reason.Reason{}, 92), at)
		case t.Inside: // whoever is inside need not get out and in again
		case t.Fault == reason.FaultSilent4500:
			f.add(Cause{
				Code: "port-4500-lost", Sure: 93, Words: "UDP 500 arrives at the gateway, and UDP 4500 does not", Setting: f.settingOf("GATEWAY/outside"),
				Fix: "let the router in front and the provider pass and forward UDP 4500 to the gateway",
			}, at)
		case t.Fault == reason.FaultName:
			f.add(Cause{
				Code: "name-unknown-outside", Sure: 92, Words: "the name that people dial does not resolve outside",
				Setting: f.settingOf("GATEWAY/dial"), Fix: "publish the name, or let people dial one that is published",
			}, at)
		case t.Fault == reason.FaultSilent500, t.Fault == reason.FaultSilentTCP:
			silent = cmp.Or(silent, at)
		}
	}
	elsewhere := slices.DeleteFunc(slices.Clone(f.Published),
		func(a netip.Addr) bool { return f.Model == nil || slices.Contains(f.Model.PublicAddresses(), a) })
	switch {
	case len(elsewhere) > 0 && fine == "":
		f.add(Cause{
			Code: "name-leads-elsewhere", Sure: 94, Words: fmt.Sprintf("the name that people dial leads to %s, which is not the gateway's address", elsewhere[0]), Setting: f.settingOf("GATEWAY/dial"),
			Fix: fmt.Sprintf("let the name lead to %s, or correct the gateway's outside address", words(f.Model.PublicAddresses())),
		}, cmp.Or(silent, "the name was looked up from outside"))
	case silent != "" && fine == "":
		f.add(Cause{
			Code: "gateway-not-reached", Sure: 88, Words: "nothing that is sent to the gateway from outside arrives", Setting: f.settingOf("GATEWAY/outside"),
			Fix: "look at the router and the provider in front of the gateway: UDP 500 and 4500 must arrive at " + words(f.Model.Gateway.Outside.Addresses),
		}, silent, "no attempt is in the journal")
	case fine == "" && !arrives && attempts == 0 && f.admitted() && f.Arrived.IsZero() && !f.Began.IsZero():
		seen := "no login, refused or not, came from outside in the journal since " + f.Began.UTC().Format("2006-01-02 15:04") + " UTC"
		if inside != "" {
			seen += "; the trial from " + inside + " says nothing of the way in"
		}
		f.add(Cause{
			Code: "nobody-arrives", Sure: 80, Words: "nothing of anybody arrives from outside: the router in front of the gateway does not forward to it, the provider drops it, or the name leads elsewhere",
			Setting: f.settingOf("GATEWAY/outside"),
			Fix: "compare what the router in front forwards: UDP 500 and UDP 4500 to " + words(f.Model.Gateway.Outside.Addresses) +
				"; then see from elsewhere what arrives: yl mirror on another machine, yl outside here",
		}, seen)
	case attempts == 0 && f.admitted() && (fine != "" || !f.Arrived.IsZero()):
		c := Cause{
			Code: "nothing-arrives", Sure: 70, Words: "nothing of " + f.User + " arrives at the gateway, while others get in: the network where they are drops it, or the device dials somewhere else",
			Fix: "check what the device dials; try from a mobile network",
		}
		if f.offersTCP() {
			c.Fix += "; our own client comes over TCP where UDP is dropped"
		} else {
			c.Fix, c.Setting = c.Fix+"; offer the tunnel over TCP for networks that drop UDP", f.settingOf("TUNNEL/tcp-port")
		}
		seen := "a trial from " + fine + " got in"
		if fine == "" {
			seen = fmt.Sprintf("somebody else was heard from %s, %s ago", f.ArrivedFrom, f.Now.Sub(f.Arrived).Round(time.Second))
		}
		f.add(c, "no attempt of theirs is in the journal", seen)
	}
}

func (f *finder) offersTCP() bool {
	if f.Class.Passage == nil {
		return false
	}
	return slices.ContainsFunc(f.Class.Passage.Tunnels, func(name string) bool {
		t := f.Model.Names.Tunnels[name]
		return t != nil && !t.Off && t.IKEv2().TCPPort > 0
	})
}

func words(as []netip.Addr) string {
	out := make([]string, len(as))
	for i, a := range as {
		out[i] = a.String()
	}
	return strings.Join(out, ", ")
}
