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
	attempts := 0
	for i, l := range f.Journal {
		if l.Kind == "login" && i == 0 && f.Now.Sub(l.At) < 10*time.Minute {
			f.add(Cause{
				Code: "connected-after-all", Sure: 60, Words: f.User + " logged in a moment ago",
				Fix: "ask again: the trouble may be over, or it may be about what is reached",
			}, f.said(l))
			attempts++
		}
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

// outside looks at trials from outside: does anybody get in?
func (f *finder) outside(attempts int) {
	silent, fine, inside := "", "", ""
	for _, t := range f.Trials {
		at := fmt.Sprintf("a trial from %s, %s ago: %s", t.Vantage, f.Now.Sub(t.At).Round(time.Second), t.Login)
		switch {
		case t.Inside && t.Connected:
			inside = cmp.Or(inside, t.Vantage)
		case t.Inside: // whoever is inside need not get out and in again
		case t.Connected:
			fine = cmp.Or(fine, t.Vantage)
		case t.Fault == reason.FaultSilent4500:
			f.add(Cause{
				Code: "port-4500-lost", Sure: 93, Words: "UDP 500 arrives at the gateway, and UDP 4500 does not", Setting: f.settingOf("GATEWAY/outside"),
				Fix: "let the router in front and the provider pass and forward UDP 4500 to the gateway",
			}, at)
		case t.Fault == reason.FaultCertificate:
			f.add(f.cause(refusals[reason.CertificateNotAccepted], reason.Reason{}, 92), at)
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
	case fine+inside != "" && attempts == 0 && f.Known && !f.Off && f.Class.Passage != nil:
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
			c.Sure, seen = 55,
				"a trial from "+inside+" got in, which is the gateway's own network: of the way in from outside nothing is known"
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
