package forward

import (
	"net/netip"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// How long a flow is remembered in silence (docs/semantics.md, "State").
const (
	tcpIdle   = 2 * time.Hour
	tcpClosed = 30 * time.Second
	udpIdle   = 2 * time.Minute
	icmpIdle  = 30 * time.Second

	// maxFlows bounds what one gateway remembers, maxPerSession what one person can make it remember: nobody takes the
	// room of all.
	maxFlows      = 1 << 18
	maxPerSession = 1 << 13
)

// flowKey names a flow from one side: ports are 0 where the protocol has none; an ICMP query has its identifier as source
// port and, as destination port, the type that asks, with inwardICMP where it was asked from inside.
type flowKey struct {
	src, dst         netip.Addr
	srcPort, dstPort uint16
	proto            uint8
}

// inwardICMP keeps apart what a person asks and what they answer under the same identifier.
const inwardICMP = 0x100

type flow struct {
	session *Session
	key     flowKey // as the person sends
	inward  bool    // opened from inside
	first   site.Packet
	src     netip.Addr // as it leaves the gateway
	srcPort uint16
	out     site.Egress
	rule    string
	model   *site.Model // that judged it last
	minute  int64       // in which it was judged last
	expires time.Time
	opened  time.Time
	sent    tally // by the person
	got     tally // what went to the person
	fins    uint8 // bit 0: the person closed, bit 1: the other side
	reset   bool
}

// personKey is a flow's key by a packet that the person sends.
func personKey(i packet.Info) flowKey {
	k := flowKey{src: i.Src, dst: i.Dst, proto: i.Proto}
	switch i.Proto {
	case netset.TCP, netset.UDP:
		k.srcPort, k.dstPort = i.SrcPort, i.DstPort
	case netset.ICMP, netset.ICMPv6:
		k.srcPort, k.dstPort = i.Ident, uint16(i.Kind)
		if asked, answers := asks(i.Proto, i.Kind); answers {
			k.dstPort = asked | inwardICMP
		}
	}
	return k
}

// otherKey is the same flow's key by a packet of the other side.
func otherKey(i packet.Info) flowKey {
	k := flowKey{src: i.Dst, dst: i.Src, proto: i.Proto}
	switch i.Proto {
	case netset.TCP, netset.UDP:
		k.srcPort, k.dstPort = i.DstPort, i.SrcPort
	case netset.ICMP, netset.ICMPv6:
		k.srcPort, k.dstPort = i.Ident, uint16(i.Kind)|inwardICMP
		if asked, answers := asks(i.Proto, i.Kind); answers {
			k.dstPort = asked
		}
	}
	return k
}

// asks gives the ICMP type that an answer answers.
func asks(proto, kind uint8) (asked uint16, answers bool) {
	switch {
	case proto == netset.ICMP && kind == 0:
		return 8, true
	case proto == netset.ICMP && kind == 14:
		return 13, true
	case proto == netset.ICMPv6 && kind == 129:
		return 128, true
	}
	return 0, false
}

// openFlow takes a packet that the rules let in through route and translation. The flow is nil if it is lost there.
func (e *Engine) openFlow(s *Session, rule *site.Rule, key flowKey, p site.Packet, now time.Time) (*flow, Result) {
	out, v := e.model.Route(p)
	if !v.OK {
		return nil, e.lose(s, site.Routing, v)
	}
	src, v := e.model.Translate(p, out)
	if !v.OK {
		return nil, e.lose(s, site.Translating, v)
	}
	if len(e.flows) >= maxFlows || s.flows >= maxPerSession {
		return nil, e.lose(s, site.State, site.Verdict{Setting: "rules"})
	}
	f := &flow{session: s, key: key, first: p, src: src, srcPort: key.srcPort, out: out, rule: rule.Name, model: e.model, minute: minuteOf(now), opened: now}
	if !e.choosePort(f) {
		return nil, e.lose(s, site.Translating, site.Verdict{Setting: "nat"})
	}
	e.remember(f)
	return f, Result{}
}

func (e *Engine) remember(f *flow) {
	e.flows[f.key], e.backs[f.backKey()] = f, f
	f.session.flows++
	e.count(f.rule, 0, true)
	e.rules[f.rule].Packets-- // the packet itself is counted with those that follow
}

// openInward takes a packet from inside, which belongs to no flow, through the stations of what is opened from there. The flow is nil
// if it is lost.
func (e *Engine) openInward(info packet.Info, outside bool, now time.Time) (*flow, Result) {
	s := e.sessions[info.Dst]
	if s == nil {
		return nil, e.stray(site.State)
	}
	p := site.Packet{Src: info.Src, Dst: info.Dst, Service: info.Service()}
	out, v := e.model.Originates(p)
	if !v.OK || outside != (out.Network == plan.Internet) {
		return nil, e.stray(site.Origin)
	}
	rule, v := e.model.JudgeInward(s.class, p, site.At(now))
	if !v.OK {
		r := e.stray(site.Rules)
		r.Setting, r.User = v.Setting, s.User
		if rule != nil {
			e.count(rule.Name, info.Size, true)
			if rule.Log {
				r.Logged = rule.Name
			}
		}
		return nil, r
	}
	if selected, _ := e.model.ToDevice(s.class, p); !selected.OK {
		return nil, e.stray(site.Selectors)
	}
	key := otherKey(info)
	// A translated flow of the person's may have these ends already: what the person sends can belong to one flow only.
	if e.flows[key] != nil || len(e.flows) >= maxFlows || s.flows >= maxPerSession {
		return nil, e.stray(site.State)
	}
	f := &flow{session: s, key: key, inward: true, first: p, src: key.src, srcPort: key.srcPort, out: out, rule: rule.Name, model: e.model, minute: minuteOf(now), opened: now}
	e.remember(f)
	var r Result
	if rule.Log {
		r.Logged, r.User = rule.Name, s.User
	}
	return f, r
}

func (f *flow) backKey() flowKey {
	k := f.key
	k.src, k.srcPort = f.src, f.srcPort
	return k
}

// choosePort keeps the person's own port where it is free (RFC 4787 §4.2.1), and else takes the next free one.
func (e *Engine) choosePort(f *flow) bool {
	for range 1 << 16 {
		if _, taken := e.backs[f.backKey()]; !taken {
			return true
		}
		switch f.key.proto {
		case netset.TCP, netset.UDP, netset.ICMP, netset.ICMPv6:
		default:
			return false
		}
		if f.src == f.key.src {
			return false // not translated: the port is the person's
		}
		if f.srcPort++; f.srcPort < 1024 {
			f.srcPort = 1024
		}
	}
	return false
}

// outdated tells whether a known flow must be judged again: the plan is a newer one, or rules have hours and time went by.
func (e *Engine) outdated(f *flow, now time.Time) bool {
	return f.model != e.model || e.model.Timed() && f.minute != minuteOf(now)
}

func minuteOf(t time.Time) int64 { return t.Unix() / 60 }

// judgeAgain asks the rules and the route of what runs now about a known flow; one that would not be let in ends.
func (e *Engine) judgeAgain(f *flow, now time.Time) bool {
	judge, route := e.model.Judge, e.model.Route
	if f.inward {
		judge, route = e.model.JudgeInward, e.model.Originates
	}
	rule, v := judge(f.session.class, f.first, site.At(now))
	if v.OK {
		var out site.Egress
		if out, v = route(f.first); v.OK {
			f.rule, f.out, f.model, f.minute = rule.Name, out, e.model, minuteOf(now)
			return true
		}
	}
	e.forget(f)
	return false
}

func (e *Engine) forget(f *flow) {
	f.session.flows--
	delete(e.flows, f.key)
	delete(e.backs, f.backKey())
}

// tally counts the packets of one direction of a flow.
type tally struct{ packets, bytes uint64 }

func (f *flow) touch(i packet.Info, now time.Time, back bool) {
	count := &f.sent
	if back {
		count = &f.got
	}
	count.packets++
	count.bytes += uint64(i.Size)
	idle := udpIdle
	switch f.key.proto {
	case netset.TCP:
		idle = tcpIdle
		side := uint8(1)
		if back {
			side = 2
		}
		if i.Flags&packet.FIN != 0 {
			f.fins |= side
		}
		f.reset = f.reset || i.Flags&packet.RST != 0
		if f.reset || f.fins == 3 {
			idle = tcpClosed
		}
	case netset.ICMP, netset.ICMPv6:
		idle = icmpIdle
	}
	f.expires = now.Add(idle)
}

// Tick forgets flows that have been silent for too long.
func (e *Engine) Tick(now time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, f := range e.flows {
		if now.After(f.expires) {
			e.forget(f)
		}
	}
}
