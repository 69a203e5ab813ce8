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

// flow is guarded by its session's lock, but for what never changes: session, key, src, srcPort, inward.
type flow struct {
	session *held
	key     flowKey // as the person sends
	inward  bool    // opened from inside
	first   site.Packet
	src     netip.Addr // as it leaves the gateway
	srcPort uint16
	out     *site.Egress // never altered: another one takes its place
	rule    string
	count   *ruleCount  // of the rule
	model   *site.Model // that judged it last
	minute  int64       // in which it was judged last
	expires time.Time
	opened  time.Time
	sent    tally // by the person
	got     tally // what went to the person
	fins    uint8 // bit 0: the person closed, bit 1: the other side
	reset   bool
	closing bool // it stands in the wheel at the time after its close
	gone    bool
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

// openFlow takes a packet that the rules let in through route and translation. The flow is nil if it is lost there. The session is locked.
func (e *Engine) openFlow(m *site.Model, s *held, rule *site.Rule, key flowKey, p site.Packet, now time.Time) (*flow, Result) {
	out, ok, ref := m.RouteTo(p)
	if !ok {
		return nil, s.lose(site.Routing, ref)
	}
	src, ok, ref := m.Source(p, out)
	if !ok {
		return nil, s.lose(site.Translating, ref)
	}
	if !e.room(s) {
		return nil, s.lose(site.State, noRule)
	}
	f := &flow{session: s, key: key, first: p, src: src, srcPort: key.srcPort, out: &out, opened: now}
	if !e.choosePort(f) {
		return nil, s.lose(site.Translating, site.Ref{List: "nat"})
	}
	e.remember(f, rule, m, now)
	return f, Result{}
}

// room tells whether one more flow may be remembered.
func (e *Engine) room(s *held) bool {
	return e.flows.Load() < maxFlows && len(s.flows) < maxPerSession
}

// remember keeps a flow whose answers' key it has claimed.
func (e *Engine) remember(f *flow, rule *site.Rule, m *site.Model, now time.Time) {
	f.judged(e, rule, m, now)
	f.count.flows.Add(1)
	f.session.flows[f.key] = f
	e.flows.Add(1)
	f.expires = now.Add(f.idle())
	e.wheel.add(f, f.expires)
}

func (f *flow) judged(e *Engine, rule *site.Rule, m *site.Model, now time.Time) {
	if f.rule != rule.Name || f.count == nil {
		f.rule, f.count = rule.Name, e.ruleCount(rule.Name)
	}
	f.model, f.minute = m, minuteOf(now)
}

// openInward takes a packet from inside, which belongs to no flow, through the stations of what is opened from there. The flow is nil
// if it is lost; otherwise its session is locked.
func (e *Engine) openInward(m *site.Model, info packet.Info, outside bool, now time.Time) (*flow, Result) {
	to := e.Sessions.At(info.Dst)
	if to == nil {
		return nil, e.stray(site.State)
	}
	p := site.Packet{Src: info.Src, Dst: info.Dst, Service: info.Service()}
	out, ok := m.Origin(p)
	if !ok || outside != (out.Network == plan.Internet) {
		return nil, e.stray(site.Origin)
	}
	to.Lock()
	s := of(to)
	if s == nil {
		to.Unlock()
		return nil, e.stray(site.State)
	}
	f, r := e.openInwardTo(m, s, p, otherKey(info), out, info.Size, now)
	if f == nil {
		to.Unlock()
	}
	return f, r
}

// openInwardTo goes on where the session is known. The session is locked.
func (e *Engine) openInwardTo(m *site.Model, s *held, p site.Packet, key flowKey, out site.Egress, size int, now time.Time) (*flow,
	Result,
) {
	class := s.in(m)
	if class.Passage == nil {
		return nil, e.stray(site.State)
	}
	rule, ok, ref := m.PermitsInward(class, p, site.At(now))
	var logged *site.Rule
	if rule != nil && rule.Log {
		logged = rule
	}
	if !ok {
		r := e.stray(site.Rules)
		r.Setting, r.User, r.Logged, r.First = ref, s.User, logged, p
		if rule != nil {
			e.ruleCount(rule.Name).refused(size)
		}
		return nil, r
	}
	if ok, _ := class.Selects(site.Packet{Src: p.Dst, Dst: p.Src, Service: p.Service}); !ok {
		return nil, e.stray(site.Selectors)
	}
	f := &flow{session: s, key: key, inward: true, first: p, src: key.src, srcPort: key.srcPort, out: &out, opened: now}
	// A translated flow of the person's may have these ends already: what the person sends can belong to one flow only.
	if s.flows[key] != nil || !e.room(s) || !e.backs.claim(f.backKey(), f) {
		return nil, e.stray(site.State)
	}
	e.remember(f, rule, m, now)
	if logged != nil {
		return f, Result{Logged: logged, First: p, User: s.User}
	}
	return f, Result{}
}

func (f *flow) backKey() flowKey {
	k := f.key
	k.src, k.srcPort = f.src, f.srcPort
	return k
}

// choosePort keeps the person's own port where it is free (RFC 4787 §4.2.1), and else takes the next free one.
func (e *Engine) choosePort(f *flow) bool {
	for range 1 << 16 {
		if e.backs.claim(f.backKey(), f) {
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
func (f *flow) outdated(m *site.Model, now time.Time) bool {
	return f.model != m || m.Timed() && f.minute != minuteOf(now)
}

func minuteOf(t time.Time) int64 { return t.Unix() / 60 }

// judgeAgain asks the rules and the route of what runs now about a known flow; one that would not be let in ends. The session's lock is
// held.
func (e *Engine) judgeAgain(m *site.Model, f *flow, now time.Time) bool {
	class := f.session.in(m)
	if class.Passage == nil {
		e.forget(f)
		return false
	}
	var rule *site.Rule
	var out site.Egress
	var ok bool
	if f.inward {
		if rule, ok, _ = m.PermitsInward(class, f.first, site.At(now)); ok {
			out, ok = m.Origin(f.first)
		}
	} else if rule, ok, _ = m.Permits(class, f.first, site.At(now)); ok {
		out, ok, _ = m.RouteTo(f.first)
	}
	if !ok {
		e.forget(f)
		return false
	}
	if *f.out != out {
		f.out = &out
	}
	f.judged(e, rule, m, now)
	return true
}

// forget ends a flow. The session's lock is held.
func (e *Engine) forget(f *flow) {
	if f.gone {
		return
	}
	f.gone = true
	delete(f.session.flows, f.key)
	e.backs.leave(f.backKey(), f)
	e.flows.Add(-1)
}

// tally counts the packets of one direction of a flow.
type tally struct{ packets, bytes uint64 }

// idle is how long the flow is remembered from now on without another packet.
func (f *flow) idle() time.Duration {
	switch f.key.proto {
	case netset.TCP:
		if f.reset || f.fins == 3 {
			return tcpClosed
		}
		return tcpIdle
	case netset.ICMP, netset.ICMPv6:
		return icmpIdle
	}
	return udpIdle
}

// touch notes a packet of the flow. The session's lock is held.
func (e *Engine) touch(f *flow, i packet.Info, now time.Time, back bool) {
	count := &f.sent
	if back {
		count = &f.got
	}
	count.packets++
	count.bytes += uint64(i.Size)
	if f.key.proto == netset.TCP {
		side := uint8(1)
		if back {
			side = 2
		}
		if i.Flags&packet.FIN != 0 {
			f.fins |= side
		}
		f.reset = f.reset || i.Flags&packet.RST != 0
	}
	idle := f.idle()
	f.expires = now.Add(idle)
	if idle == tcpClosed && !f.closing { // it is due sooner than where it stands
		f.closing = true
		e.wheel.add(f, f.expires)
	}
}
