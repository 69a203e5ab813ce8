package diagnose

import (
	"fmt"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

type hostOf = plan.Host

// slow looks at what larger packets meet, and at what goes missing.
func (f *finder) slow() {
	if !f.admitted() {
		return
	}
	f.connected()
	mtu := plan.DefaultMTU
	var tunnel *plan.Tunnel
	for _, name := range f.Class.Passage.Tunnels {
		if t := f.Model.Names.Tunnels[name]; t != nil && !t.Off {
			tunnel, mtu = t, t.InnerMTU()
			break
		}
	}
	for _, t := range f.Trials {
		if t.Largest > 0 && t.Largest < mtu && tunnel != nil {
			c := Cause{
				Code: "mtu-too-large", Sure: 94, Words: fmt.Sprintf("from %s packets of more than %d octets are lost, and tunnel %s lets %d through: connections open, and large pages hang", t.Vantage, t.Largest, tunnel.Name, mtu),
				Setting: "tunnels/" + tunnel.Name + "/mtu", Fix: fmt.Sprintf("set the tunnel's mtu to %d", max(1280, t.Largest)),
			}
			if t.Largest >= 1280 {
				c.Mend = []plan.Edit{{Op: "set", Path: c.Setting, Value: fmt.Sprint(t.Largest)}}
			}
			f.add(c, fmt.Sprintf("a trial from %s: the largest packet that came back had %d octets", t.Vantage, t.Largest))
		}
		for _, x := range t.Results {
			if x.Want && x.Reached && !x.Served && x.Saw.Among(reason.Hangs) {
				f.tried(t, x)
			}
		}
	}
	if tunnel != nil && tunnel.KeepMSS {
		f.add(Cause{
			Code: "segments-do-not-fit", Sure: 74, Words: "TCP is not told that its segments must fit the tunnel: where ICMP is filtered, large pages hang", Setting: "tunnels/" + tunnel.Name + "/keep-mss", Fix: "leave keep-mss out",
			Mend: []plan.Edit{{Op: "remove", Path: "tunnels/" + tunnel.Name + "/keep-mss"}},
		}, "the plan")
	}
	for _, s := range f.Sessions {
		if s.Carries > 0 && tunnel != nil {
			f.add(Cause{
				Code: "path-mtu", Sure: 92, Words: fmt.Sprintf("the network where %s is carries packets of at most %d octets inside the tunnel, and drops larger ones without ICMP; tunnel %s is for %d. The gateway and our own client keep to %d", f.User, s.Carries, tunnel.Name, mtu, s.Carries),
				Setting: "tunnels/" + tunnel.Name + "/mtu", Fix: fmt.Sprintf("for systems' own clients there: mtu: %d at the tunnel; or have their router let ICMP through (RFC 1191)", max(1280, s.Carries)),
			}, "the live session from "+s.From+": its device searched for the size")
		}
		if total := s.In + s.Missing; s.Missing > 5 && s.Missing*50 > total {
			f.add(Cause{Code: "loss-on-the-way", Sure: 90, Words: fmt.Sprintf("%d of %d packets that the device sent did not arrive: the network between it and the gateway loses them", s.Missing, total), Fix: "try from another network; a wireless link or a crowded line is usual"},
				"live counters: gaps in the sequence numbers")
		}
		if s.TCP {
			f.add(Cause{Code: "comes-over-tcp", Sure: 52, Words: "the tunnel comes over TCP, for UDP is dropped on its way: on a line that loses packets that is slow", Fix: "use a network that lets UDP 500 and 4500 through"}, "the live session from "+s.From)
		}
	}
}

// drops looks at why sessions ended.
func (f *finder) drops() {
	if !f.Known || f.Off {
		return
	}
	n := 0
	for _, p := range f.Past {
		if !f.fresh(p.Until) || n == 6 {
			break
		}
		n++
		if s, ok := ends[p.Why.Code]; ok {
			f.add(f.cause(s, p.Why, max(50, 95-5*(n-1))),
				fmt.Sprintf("a session of %s ended %s ago: %s", p.Until.Sub(p.Since).Round(1e9), f.Now.Sub(p.Until).Round(1e9), p.Words))
		}
	}
	if n == 0 {
		f.add(Cause{
			Code: "no-session-ended", Sure: 35, Words: "no session of " + f.User + " ended lately",
			Fix: "ask when it happened, and look at yl sessions past --user " + f.User,
		}, "sessions that ended within a day")
	}
	if len(f.Sessions) > 0 {
		s := f.Sessions[0]
		if total := s.In + s.Missing; s.Missing > 5 && s.Missing*10 > total {
			f.add(Cause{
				Code: "loss-on-the-way", Sure: 70,
				Words: fmt.Sprintf("%d of %d packets of the device did not arrive: its network is losing it", s.Missing, total), Fix: "try from another network",
			}, "live counters: gaps in the sequence numbers")
		}
	}
}
