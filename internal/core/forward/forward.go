// Package forward sends packets through the stations of package site: between the sessions of remote people and the
// inside. It keeps the state that the stations need (sessions, flows with their translation, counters) and nothing
// else; what the stations decide is left to site, sealing and sockets to others. docs/semantics.md says what happens.
//
// A packet waits for nobody but packets of its own session: the compiled model is a snapshot that is swapped, each session has its flows
// and counters under a lock of its own, and answers find their flow in shards. Nothing here is scanned when a session ends or a flow is
// forgotten. Where two locks are held, a session's is taken before a shard's.
package forward

import (
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// answersMost is how many ICMP answers a session gets in a second.
const answersMost = 100

// InsideMTU is the largest packet that inside links carry, in octets.
const InsideMTU = 1500

// Session is the one record of a session (package session).
type Session = session.Session

// Counters are a session's.
type Counters = session.Counters

// attached is what forwarding keeps with a session while it is up. The session's lock guards it.
type attached struct {
	*Session
	model     *site.Model // that class is of
	class     *site.Class
	leased    netset.Addrs
	flows     map[flowKey]*flow // by what the person sends
	parts     packet.Collector  // of packets that are not whole yet
	answers   int               // ICMP answers in the current second
	answersAt int64
	followed  *following // nil: nobody asked for it
}

// of is what is kept with a session; nil where packets of it do not pass. The session is locked.
func of(s *Session) *attached {
	if !s.IsUp() {
		return nil
	}
	h, _ := s.Forwarding.(*attached)
	return h
}

// in is the session's class in a model. the session is locked.
func (s *attached) in(m *site.Model) *site.Class {
	if s.model != m {
		s.model, s.class = m, m.Class(s.Groups)
	}
	return s.class
}

// Result is what becomes of a packet. At most one of Inside and Session is set.
type Result struct {
	Inside  *site.Egress // send Packet there; not to be altered
	Session *Session     // send Packet to this person
	Packet  []byte
	Answer  []byte // ICMP for the packet's sender, on the side it came from
	Page    bool   // Packet is for the code page; Session is whose it is
	Station string // where it was lost, if it was
	Setting site.Ref
	Logged  *site.Rule  // a rule that wants this new flow in the journal
	most    int         // octets of the parts that Packet or Answer goes on in; 0: whole
	ident   uint32      // of those parts, in IPv6
	First   site.Packet // with Logged: the packet that it decided about
	User    string      // whose device it was for, where that is not the session
}

// Engine is the packet path of one gateway. It is safe for concurrent use.
type Engine struct {
	model    atomic.Pointer[site.Model]
	Sessions *session.Table
	backs    backs // flows by what answers look like
	flows    atomic.Int64
	wheel    wheel
	rules    sync.Map // by name: *ruleCount

	// ByKernel leaves routes, translation, origin, hop limits and sizes to a host's kernel (docs/semantics.md, "Where it is enforced").
	// It is set before there are sessions.
	ByKernel bool
	// Forgotten is told of flows that the kernel must forget; nil: nobody.
	Forgotten func([]inside.Flow)
	partsKept atomic.Int64 // octets, of all sessions
	fromParts insideParts
	more      atomic.Pointer[netset.Addrs] // the host's own addresses beside the plan's
	strays    sync.Map                     // packets from inside that belong to nobody, by station: *atomic.Uint64
	followed  followings
}

// New forwards for the sessions of a table, where they are attached.
func New(m *site.Model, sessions *session.Table) *Engine {
	e := &Engine{Sessions: sessions}
	e.model.Store(m)
	return e
}

// Model is what decides now.
func (e *Engine) Model() *site.Model { return e.model.Load() }

// Owns tells which addresses the host has beside those of the plan: nobody reaches them.
func (e *Engine) Owns(more netset.Addrs) { e.more.Store(&more) }

// owned tells whether an address is the host's and not one that the plan knows.
func (e *Engine) owned(m *site.Model, a netip.Addr) bool {
	more := e.more.Load()
	return more != nil && more.Contains(a) && !m.OwnAddresses().Contains(a)
}

// Attach lets the packets of a session that was admitted pass, by a path to its device. It says whether it did: the session may be over
// already.
func (e *Engine) Attach(s *Session, path session.Path) bool {
	e.model.Load().Class(s.Groups).Ready()
	watched := e.followed.find(s.User)
	if watched != nil {
		watched.begins()
	}
	s.Lock()
	s.Forwarding = &attached{Session: s, leased: s.Leased(), flows: map[flowKey]*flow{}, followed: watched}
	s.Unlock()
	return e.Sessions.Up(s, path)
}

// Detach ends a session, and forgets its flows. Once it has returned no packet of the session passes, and the kernel has forgotten them
// too. first is false where it was over already, and up tells whether it had come that far.
func (e *Engine) Detach(s *Session, why reason.Reason) (up, first bool) {
	was, first := e.Sessions.End(s, why)
	if !first {
		return false, false
	}
	s.Lock()
	var gone []inside.Flow
	if h, ok := s.Forwarding.(*attached); ok {
		e.partsKept.Add(-int64(h.parts.Kept()))
		for _, f := range h.flows {
			gone = append(gone, f.ends())
			e.forget(f)
		}
		s.Forwarding = nil
	}
	s.Unlock()
	if e.Forgotten != nil && len(gone) > 0 {
		e.Forgotten(gone)
	}
	return was == session.Up, true
}

// Commit makes another model decide from now on. Flows are judged again at their next packet.
func (e *Engine) Commit(m *site.Model) { e.model.Store(m) }

// lose counts a packet that a station loses. the session is locked.
func (s *attached) lose(station string, setting site.Ref) Result {
	s.Counters.Lost[station]++
	return Result{Station: station, Setting: setting}
}

// judge takes a packet through all stations. f is the flow that it belongs to, where it is whole and belongs to one.
func (x *stretch) judge(b []byte, info packet.Info, key flowKey, f *flow) Result {
	e, m, s, class, now := x.e, x.m, x.s, x.class, x.now
	var err error
	p := site.Packet{Src: info.Src, Dst: info.Dst, Service: info.Service()}
	if !info.Fragment {
		if own := s.owned(m, class, p); own != site.NoOwn {
			return s.serve(m, own, b, info, now)
		}
	}
	if f == nil { // a flow that is known begins at an address that is leased: it was when it was opened, and a session's change no more
		if ok, ref := class.Leases(p, s.leased); !ok {
			return s.lose(site.Source, ref)
		}
	}
	if s.IsHeld() {
		return s.answer(m, s.lose(site.Held, class.HeldBy()), b, info, packet.Prohibited, now)
	}
	if ok, ref := class.Selects(p); !ok {
		return s.answer(m, s.lose(site.Selectors, ref), b, info, packet.Prohibited, now)
	}
	var came packet.Came
	if info.Fragment {
		if b, came = e.collect(s, b, info, now); b == nil {
			return Result{}
		}
		if info, err = packet.Parse(b); err != nil {
			return s.lose(site.Fragments, noRule)
		}
		p.Service = info.Service()
		if own := m.Owned(p, s.leased); own == site.OwnPage || own == site.OwnNames {
			return s.serve(m, own, b, info, now)
		}
		key = personKey(info)
		f = s.flows[key]
	}
	if info.ICMPError() {
		return s.report(b, info, e.ByKernel)
	}
	if f != nil && f.outdated(m, now) && !e.judgeAgain(m, f, now) {
		f = nil
	}
	var logged *site.Rule
	if f == nil {
		rule, ok, ref := m.Permits(class, p, site.At(now))
		if rule != nil && rule.Log {
			logged = rule
		}
		if !ok {
			if rule != nil {
				e.ruleCount(rule.Name).refused(len(b))
			}
			r := s.answer(m, s.lose(site.Rules, ref), b, info, packet.Prohibited, now)
			r.Logged, r.First = logged, p
			return r
		}
		var r Result
		if f, r = e.openFlow(m, s, rule, key, p, now); f == nil {
			if r.Station == site.Routing {
				return s.answer(m, r, b, info, packet.NoRoute, now)
			}
			return r
		}
	}
	f.through = m
	r := x.goes(f, b, info, came)
	r.Logged, r.First = logged, p
	return r
}

// goes counts a packet of a flow, and sends it on.
func (x *stretch) goes(f *flow, b []byte, info packet.Info, came packet.Came) Result {
	x.begins(f, b, info)
	x.passes(len(b), info.Flags)
	return x.e.onward(x.m, x.s, f, b, info, came, x.now)
}

// onward sends a packet of a known flow of the person's on. The session is locked.
func (e *Engine) onward(m *site.Model, s *attached, f *flow, b []byte, info packet.Info, came packet.Came, now time.Time) (r Result) {
	r.Inside, r.Packet = f.out, b
	switch {
	case f.out.Self && info.EchoRequest():
		r.Inside, r.Session = nil, s.Session
		r.Packet = s.toPerson(packet.EchoReply(b, info), now)
		r.own(r.Packet, info, came, s.Fits())
		return r
	case f.out.Self || e.ByKernel: // the machine's, if there is one
		r.most, r.ident = came.Largest, came.Ident // the kernel knows what they fit
		if s.ClampMSS && !f.out.Self {
			packet.ClampMSS(b, info, s.Fits())
		}
		return r
	case info.HopLimit <= 1:
		return s.answer(m, s.lose(site.Routing, site.Ref{}), b, info, packet.TimeExceeded, now)
	case !r.fits(len(b), info, came, InsideMTU):
		r = s.lose(site.Size, site.Ref{})
		r.Answer = packet.Error(b, info, ownAddress(m, info.Src.Is4()), packet.TooBig, InsideMTU)
		return r
	}
	packet.DecrementHopLimit(b)
	if s.ClampMSS {
		packet.ClampMSS(b, info, s.Fits())
	}
	f.toInside(b, &info)
	return r
}

// noRule is the setting where no rule can let something through.
var noRule = site.Ref{List: "rules"}

// answer adds ICMP to the person about their packet, at most answersMost a second for each session (RFC 1812 §4.3.2.8). the session is
// locked.
func (s *attached) answer(m *site.Model, r Result, b []byte, info packet.Info, t packet.Trouble, now time.Time) Result {
	if second := now.Unix(); s.answersAt != second {
		s.answersAt, s.answers = second, 0
	}
	if s.answers++; s.answers <= answersMost {
		r.Answer = packet.Error(b, info, ownAddress(m, info.Src.Is4()), t, 0)
	}
	return r
}

// ownAddress is the gateway's first inside address of a family, from which it speaks to people.
func ownAddress(m *site.Model, v4 bool) netip.Addr {
	for _, at := range m.Gateway.Inside {
		for _, a := range at.Addresses {
			if a.Is4() == v4 {
				return a
			}
		}
	}
	return netip.Addr{}
}

// FromInside takes a packet from an inside network, or from the internet by the outside link. b may be altered, and is part of the
// result.
func (e *Engine) FromInside(b []byte, outside bool, now time.Time) Result {
	return e.FromInsideJoined(b, 0, outside, now)
}

// FromInsideJoined does the same for a packet into which several of one flow were joined, each with so many octets of payload (0: it is
// one). They are judged as one and counted as many; the result's packet is joined still.
func (e *Engine) FromInsideJoined(b []byte, each int, outside bool, now time.Time) Result {
	m := e.model.Load()
	info, err := packet.Parse(b)
	if err != nil {
		return e.stray("malformed")
	}
	b = b[:info.Size]
	whole := segment.Extent{Packets: 1, Octets: len(b), Largest: len(b)}
	if each > 0 {
		if whole, err = segment.ExtentOf(b, info, each); err != nil {
			return e.stray("malformed")
		}
	}
	var came packet.Came
	if info.Fragment {
		if e.ByKernel && e.Sessions.At(info.Dst) == nil {
			return e.stray(site.State) // nothing is kept of what is for nobody: the kernel has undone its translation
		}
		if b, came = e.collectInside(b, info, outside, now); b == nil {
			return Result{}
		}
		if info, err = packet.Parse(b); err != nil {
			return e.stray(site.Fragments)
		}
		whole = segment.Extent{Packets: 1, Octets: len(b), Largest: len(b)}
	}
	if info.ICMPError() {
		return e.reportFromInside(m, b, info, outside, now)
	}
	f := e.find(otherKey(info))
	if f != nil && !e.ByKernel && !m.Comes(info.Src, outside) {
		f.session.Unlock()
		return e.stray(site.Origin)
	}
	if f != nil && f.outdated(m, now) && !e.judgeAgain(m, f, now) {
		f.session.Unlock()
		f = nil
	}
	var opened Result
	if f == nil {
		if info.EchoRequest() && m.OwnAddresses().Contains(info.Dst) {
			r := Result{Answer: packet.EchoReply(b, info)}
			r.own(r.Answer, info, came, InsideMTU)
			return r
		}
		if f, opened = e.openInward(m, info, outside, now); f == nil {
			return opened
		}
	}
	s := f.session
	defer s.Unlock()
	if info.HopLimit <= 1 && !e.ByKernel {
		return Result{
			Station: site.Routing,
			Answer:  packet.Error(b, info, ownAddress(m, info.Src.Is4()), packet.TimeExceeded, 0),
		}
	}
	r := Result{Session: s.Session, Logged: opened.Logged, First: opened.First}
	if !r.fits(whole.Largest, info, came, s.Fits()) {
		r = s.lose(site.Size, site.Ref{})
		switch {
		case !e.ByKernel:
			r.Answer = packet.Error(b, info, ownAddress(m, info.Src.Is4()), packet.TooBig, s.Fits())
		case s.Fits() < s.MTU: // the kernel tells by the MTU of its route alone, and takes nothing that is from its own addresses
			r.Answer = packet.Error(b, info, info.Dst, packet.TooBig, s.Fits())
		}
		return r
	}
	many := tally{uint64(whole.Packets), uint64(whole.Octets)}
	e.touch(f, &f.got, many, ended(info.Flags, byOther), now)
	if f.inward {
		f.count.passed(many)
	}
	if !e.ByKernel {
		packet.DecrementHopLimit(b)
	}
	if s.ClampMSS {
		packet.ClampMSS(b, info, s.Fits())
	}
	f.toPerson(b, &info)
	s.sent(many, now)
	r.Packet = b
	return r
}

// find finds the flow that an answer belongs to, with its session locked; nil if there is none.
func (e *Engine) find(key flowKey) *flow {
	f := e.backs.find(key)
	if f == nil {
		return nil
	}
	f.session.Lock()
	if f.gone {
		f.session.Unlock()
		return nil
	}
	return f
}

// toPerson counts a packet that goes to the person. the session is locked.
func (s *attached) toPerson(b []byte, now time.Time) []byte {
	s.sent(tally{1, uint64(len(b))}, now)
	return b
}

// sent counts what goes to the person. The session is locked.
func (s *attached) sent(many tally, now time.Time) {
	s.Counters.OutPackets += many.packets
	s.Counters.OutBytes += many.bytes
	s.Counters.LastOut = now
}

func (e *Engine) stray(station string) Result {
	n, ok := e.strays.Load(station)
	if !ok {
		n, _ = e.strays.LoadOrStore(station, new(atomic.Uint64))
	}
	n.(*atomic.Uint64).Add(1)
	return Result{Station: station}
}

// reportFromInside passes an ICMP error about something that a person sent, the quoted packet translated back.
func (e *Engine) reportFromInside(m *site.Model, b []byte, info packet.Info, outside bool, now time.Time) Result {
	in, _, err := packet.Quoted(b, info)
	if err != nil || info.Dst != in.Src { // whom it is told to is who sent what it quotes (RFC 792, RFC 4443 §2.4)
		return e.stray(site.State)
	}
	f := e.find(personKey(in))
	if f == nil {
		return e.stray(site.State)
	}
	s := f.session
	defer s.Unlock()
	switch {
	case e.ByKernel:
		return Result{Session: s.Session, Packet: s.toPerson(b, now)}
	case !m.Comes(info.Src, outside):
		return e.stray(site.Origin)
	case info.HopLimit <= 1:
		return e.stray(site.State)
	}
	if f.translated() {
		if f.inward {
			err = packet.SetQuoted(b, info, f.key.dst, f.key.peerPort(), false)
		} else if err = packet.SetQuoted(b, info, f.key.src, f.key.srcPort, true); err == nil {
			packet.SetDst(b, &info, f.key.src, info.Ident)
		}
		if err != nil {
			return e.stray(site.State)
		}
	}
	packet.DecrementHopLimit(b)
	return Result{Session: s.Session, Packet: s.toPerson(b, now)}
}

// report passes an ICMP error about something that was sent to the person. the session is locked.
func (s *attached) report(b []byte, info packet.Info, byKernel bool) Result {
	in, _, err := packet.Quoted(b, info)
	if err != nil || info.Dst != in.Src { // else it would reach anybody past the rules, by a flow that is there
		return s.lose(site.Rules, noRule)
	}
	f := s.flows[otherKey(in)]
	if f == nil || f.out.Self || info.HopLimit <= 1 && !byKernel {
		return s.lose(site.Rules, noRule)
	}
	if byKernel {
		return Result{Inside: f.out, Packet: b}
	}
	if f.translated() {
		if f.inward {
			if err = packet.SetQuoted(b, info, f.back.dst, f.back.peerPort(), true); err == nil && info.Dst == f.key.dst {
				packet.SetDst(b, &info, f.back.dst, info.Ident)
			}
		} else if err = packet.SetQuoted(b, info, f.back.src, f.back.srcPort, false); err == nil {
			packet.SetSrc(b, &info, f.back.src, info.Ident)
		}
		if err != nil {
			return s.lose(site.Rules, noRule)
		}
	}
	packet.DecrementHopLimit(b)
	return Result{Inside: f.out, Packet: b}
}

// Flows is how many flows are known.
func (e *Engine) Flows() int { return int(e.flows.Load()) }
