package forward

import (
	"net/netip"
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
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

// flow is guarded by its session's lock, but for what never changes: session, key, back, inward. What each packet looks at stands first.
type flow struct {
	session *attached
	model   *site.Model  // that judged it last
	through *site.Model  // by which a packet of the person's came through every station
	count   *ruleCount   // of the rule
	out     *site.Egress // never altered: another one takes its place
	minute  int64        // in which it was judged last
	inward  bool         // opened from inside
	over    ending
	closing bool // it stands in the wheel at the time after its close
	gone    bool
	changes bool // it has other ends inside than the person sees
	expires time.Time
	sent    tally   // by the person
	got     tally   // what went to the person
	key     flowKey // as the person sends
	// the same as it is beyond translation: what a person opens has another source there, what is opened from inside another peer
	back   flowKey
	first  site.Packet // as whoever opened it sent it
	leaves site.Egress // the first of its ways out
	rule   string
	opened time.Time
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
func (e *Engine) openFlow(m *site.Model, s *attached, rule *site.Rule, key flowKey, p site.Packet, now time.Time) (*flow, Result) {
	out, ok, ref := m.RouteTo(p)
	if !ok || e.owned(m, p.Dst) {
		return nil, s.lose(site.Routing, ref)
	}
	src, ok, ref := m.Source(p, out)
	if !ok {
		return nil, s.lose(site.Translating, ref)
	}
	if !e.room(s) {
		return nil, s.lose(site.State, noRule)
	}
	f := &flow{session: s, key: key, back: key, first: p, leaves: out, opened: now}
	f.out = &f.leaves
	if f.back.src = src; e.ByKernel {
		f.back.src = key.src
	}
	if !e.choosePort(f) {
		return nil, s.lose(site.Translating, site.Ref{List: "nat"})
	}
	e.remember(f, rule, m, now)
	return f, Result{}
}

// room tells whether one more flow may be remembered.
func (e *Engine) room(s *attached) bool {
	return e.flows.Load() < maxFlows && len(s.flows) < maxPerSession
}

// remember keeps a flow whose answers' key it has claimed.
func (e *Engine) remember(f *flow, rule *site.Rule, m *site.Model, now time.Time) {
	f.judged(e, rule, m, now)
	f.changes = f.back != f.key
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
	out, _ := m.Origin(p)
	as := p.Src
	if !e.ByKernel {
		if !m.Comes(p.Src, outside) {
			return nil, e.stray(site.Origin)
		}
		var ok bool
		if as, ok, _ = m.SourceInward(p); !ok {
			return nil, e.stray(site.Translating)
		}
	}
	to.Lock()
	s := of(to)
	if s == nil {
		to.Unlock()
		return nil, e.stray(site.State)
	}
	f := &flow{session: s, key: otherKey(info), inward: true, first: p, leaves: out, opened: now}
	f.out = &f.leaves
	f.back, f.key.dst = f.key, as
	f, r := e.openInwardTo(m, f, info.Size, now)
	if f == nil {
		to.Unlock()
	}
	return f, r
}

// openInwardTo goes on where the session is known. The session is locked.
func (e *Engine) openInwardTo(m *site.Model, f *flow, size int, now time.Time) (*flow, Result) {
	s, p := f.session, f.first
	p.Src = f.key.dst
	class := s.in(m)
	if class.Passage == nil {
		return nil, e.stray(site.State)
	}
	if s.IsHeld() {
		return nil, e.stray(site.Held)
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
	// A translated flow of the person's may have these ends already: what the person sends can belong to one flow only.
	if !e.room(s) || !f.choosePeerPort() || !e.backs.claim(f.back, f) {
		return nil, e.stray(site.State)
	}
	e.remember(f, rule, m, now)
	if logged != nil {
		return f, Result{Logged: logged, First: p, User: s.User}
	}
	return f, Result{}
}

// choosePort keeps the person's own port where it is free (RFC 4787 §4.2.1), and else takes the next free one.
func (e *Engine) choosePort(f *flow) bool {
	for range 1 << 16 {
		if e.backs.claim(f.back, f) {
			return true
		}
		if !hasPorts(f.key.proto) || f.back.src == f.key.src { // not translated: the port is the person's
			return false
		}
		if f.back.srcPort++; f.back.srcPort < 1024 {
			f.back.srcPort = 1024
		}
	}
	return false
}

// choosePeerPort does the same for what is opened from inside: the person's device sees the translated source with a port that none of its
// flows has. The session is locked.
func (f *flow) choosePeerPort() bool {
	for range 1 << 16 {
		if f.session.flows[f.key] == nil {
			return true
		}
		if !hasPorts(f.key.proto) || f.back.dst == f.key.dst {
			return false
		}
		port := &f.key.dstPort
		if f.key.proto == netset.ICMP || f.key.proto == netset.ICMPv6 {
			port = &f.key.srcPort
		}
		if *port++; *port < 1024 {
			*port = 1024
		}
	}
	return false
}

func hasPorts(proto uint8) bool {
	switch proto {
	case netset.TCP, netset.UDP, netset.ICMP, netset.ICMPv6:
		return true
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
		p := f.first
		p.Src = f.key.dst
		if rule, ok, _ = m.PermitsInward(class, p, site.At(now)); ok {
			out, ok = m.Origin(f.first)
		}
	} else if rule, ok, _ = m.Permits(class, f.first, site.At(now)); ok {
		if out, ok, _ = m.RouteTo(f.first); e.owned(m, f.first.Dst) {
			ok = false
		}
	}
	if !ok || !e.sameTranslation(m, f, out) {
		if e.ByKernel && e.Forgotten != nil { // the kernel would go on with its old translation
			e.Forgotten([]inside.Flow{f.ends()})
		}
		e.forget(f)
		return false
	}
	if *f.out != out {
		f.out = &out
	}
	f.judged(e, rule, m, now)
	return true
}

// sameTranslation tells whether a flow would be translated by the model as it was when it was opened. One that would not ends: its next
// packet opens another one.
func (e *Engine) sameTranslation(m *site.Model, f *flow, out site.Egress) bool {
	switch {
	case f.model == m:
		return true
	case e.ByKernel: // what it made of the flow's source is its own knowledge, but by the plan that it had
		if m.SameTranslations(f.model) {
			return true
		}
		was, ok := f.source(f.model, *f.out)
		is, still := f.source(m, out)
		return ok && still && was == is
	case f.inward:
		as, ok := f.source(m, out)
		return ok && as == f.key.dst
	}
	src, ok := f.source(m, out)
	return ok && src == f.back.src
}

// source is the source that a model gives the flow's first packet, which leaves by a way.
func (f *flow) source(m *site.Model, out site.Egress) (src netip.Addr, ok bool) {
	if f.inward {
		src, ok, _ = m.SourceInward(f.first)
	} else {
		src, ok, _ = m.Source(f.first, out)
	}
	return src, ok
}

// translated tells whether the flow has other ends inside than the person sees.
func (f *flow) translated() bool { return f.changes }

// toInside makes of a packet as the person sent it one as it leaves the gateway; toPerson is the way back.
func (f *flow) toInside(b []byte, i *packet.Info) {
	switch {
	case !f.translated():
	case f.inward:
		packet.SetDst(b, i, f.back.dst, f.back.peerPort())
	default:
		packet.SetSrc(b, i, f.back.src, f.back.srcPort)
	}
}

func (f *flow) toPerson(b []byte, i *packet.Info) {
	switch {
	case !f.translated():
	case f.inward:
		packet.SetSrc(b, i, f.key.dst, f.key.peerPort())
	default:
		packet.SetDst(b, i, f.key.src, f.key.srcPort)
	}
}

// peerPort is the port at the end away from the person, or the ICMP identifier, which both ends share.
func (k flowKey) peerPort() uint16 {
	if k.proto == netset.ICMP || k.proto == netset.ICMPv6 {
		return k.srcPort
	}
	return k.dstPort
}

// ends is the flow as a kernel knows it.
func (f *flow) ends() inside.Flow {
	k := f.key
	out := inside.Flow{Proto: k.proto, Src: k.src, Dst: k.dst, SrcPort: k.srcPort, DstPort: k.dstPort}
	if k.proto != netset.ICMP && k.proto != netset.ICMPv6 {
		return out
	}
	out.SrcPort, out.DstPort, out.Ident, out.Kind = 0, 0, k.srcPort, uint8(k.dstPort)
	if k.dstPort&inwardICMP != 0 {
		out.Kind = answersTo(out.Kind)
	}
	return out
}

// answersTo is the type that answers a type that asks.
func answersTo(kind uint8) uint8 {
	switch kind {
	case 8:
		return 0
	case 13:
		return 14
	case 128:
		return 129
	}
	return kind
}

// forget ends a flow. The session's lock is held.
func (e *Engine) forget(f *flow) {
	if f.gone {
		return
	}
	f.gone = true
	delete(f.session.flows, f.key)
	e.backs.leave(f.back, f)
	e.flows.Add(-1)
}

// tally counts the packets of one direction of a flow.
type tally struct{ packets, bytes uint64 }

func (t *tally) add(packets, octets int) {
	t.packets += uint64(packets)
	t.bytes += uint64(octets)
}

// idle is how long the flow is remembered from now on without another packet.
func (f *flow) idle() time.Duration {
	switch f.key.proto {
	case netset.TCP:
		if f.over.whole() {
			return tcpClosed
		}
		return tcpIdle
	case netset.ICMP, netset.ICMPv6:
		return icmpIdle
	}
	return udpIdle
}

// ending is what there was of a TCP flow's end: bits 0 and 1 of fins by who closed, and whether it was reset.
type ending struct {
	fins  uint8
	reset bool
}

// Who closed.
const (
	byPerson uint8 = 1 << iota
	byOther
)

// ended is what a packet's flags end.
func ended(flags, by uint8) (e ending) {
	if flags&packet.FIN != 0 {
		e.fins = by
	}
	e.reset = flags&packet.RST != 0
	return e
}

func (e ending) and(more ending) ending { return ending{e.fins | more.fins, e.reset || more.reset} }

func (e ending) whole() bool { return e.reset || e.fins == byPerson|byOther }

// touch notes packets of the flow, in one of its tallies. The session's lock is held.
func (e *Engine) touch(f *flow, count *tally, many tally, over ending, now time.Time) {
	count.packets += many.packets
	count.bytes += many.bytes
	if f.key.proto == netset.TCP {
		f.over = f.over.and(over)
	}
	idle := f.idle()
	f.expires = now.Add(idle)
	if idle == tcpClosed && !f.closing { // it is due sooner than where it stands
		f.closing = true
		e.wheel.add(f, f.expires)
	}
}
