// Package forward sends packets through the stations of package site: between the sessions of remote people and the
// inside. It keeps the state that the stations need (sessions, flows with their translation, counters) and nothing
// else; what the stations decide is left to site, sealing and sockets to others. docs/semantics.md says what happens.
package forward

import (
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/site"
)

// answersMost is how many ICMP answers a session gets in a second.
const answersMost = 100

// InsideMTU is the largest packet that inside links carry, in octets.
const InsideMTU = 1500

// Session is one person's session as forwarding sees it.
type Session struct {
	ID        uint64
	User      string
	Groups    []string
	Addresses []netip.Addr
	MTU       int  // of the tunnel, inside, in octets
	ClampMSS  bool // TCP is told that segments must fit the tunnel
	Counters  Counters

	class     *site.Class
	leased    netset.Addrs
	flows     int
	answers   int // ICMP answers in the current second
	answersAt int64
}

// Counters of a session. In is what the person sent, Out what went to the person.
type Counters struct {
	InPackets, InBytes, OutPackets, OutBytes uint64
	Lost                                     map[string]uint64 // by station
	LastIn, LastOut                          time.Time
}

// RuleCounters counts what one rule decided.
type RuleCounters struct {
	Flows   uint64 `json:"flows" doc:"Flows let in, or packets refused."`
	Packets uint64 `json:"packets"`
	Bytes   uint64 `json:"bytes"`
}

// Result is what becomes of a packet. At most one of Inside and Session is set.
type Result struct {
	Inside  *site.Egress // send Packet there
	Session *Session     // send Packet to this person
	Packet  []byte
	Answer  []byte // ICMP for the packet's sender, on the side it came from
	Station string // where it was lost, if it was
	Setting string
	Logged  string // name of a rule that wants this new flow in the journal
	User    string // whose device it was for, where that is not the session
}

// Engine is the packet path of one gateway. It is safe for concurrent use.
type Engine struct {
	mu       sync.Mutex
	model    *site.Model
	sessions map[netip.Addr]*Session
	flows    map[flowKey]*flow // by what the person sends
	backs    map[flowKey]*flow // by what answers look like
	rules    map[string]*RuleCounters
	strays   map[string]uint64 // packets from inside that belong to nobody, by station
}

// New begins with no session.
func New(m *site.Model) *Engine {
	return &Engine{model: m, sessions: map[netip.Addr]*Session{}, flows: map[flowKey]*flow{}, backs: map[flowKey]*flow{},
		rules: map[string]*RuleCounters{}, strays: map[string]uint64{}}
}

// Attach adds a session.
func (e *Engine) Attach(s *Session) {
	e.mu.Lock()
	defer e.mu.Unlock()
	s.class, s.leased = e.model.Class(s.Groups), netset.OfAddrs(s.Addresses...)
	s.Counters.Lost = map[string]uint64{}
	for _, a := range s.Addresses {
		e.sessions[a] = s
	}
}

// Detach removes a session with its flows.
func (e *Engine) Detach(s *Session) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, a := range s.Addresses {
		delete(e.sessions, a)
	}
	for _, f := range e.flows {
		if f.session == s {
			e.forget(f)
		}
	}
}

// Commit makes another model decide from now on. Flows are judged again at their next packet.
func (e *Engine) Commit(m *site.Model) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.model = m
	for _, s := range e.sessions {
		s.class = m.Class(s.Groups)
	}
}

func (e *Engine) lose(s *Session, station string, v site.Verdict) Result {
	s.Counters.Lost[station]++
	return Result{Station: station, Setting: v.Setting}
}

// FromTunnel takes a packet that arrived, authentic, from a person. b may be altered, and is part of the result.
func (e *Engine) FromTunnel(s *Session, b []byte, now time.Time) Result {
	e.mu.Lock()
	defer e.mu.Unlock()
	info, err := packet.Parse(b)
	if err != nil || s.class.Passage == nil {
		return e.lose(s, site.Source, site.Verdict{})
	}
	b = b[:info.Size]
	s.Counters.InPackets++
	s.Counters.InBytes += uint64(len(b))
	s.Counters.LastIn = now
	p := site.Packet{Src: info.Src, Dst: info.Dst, Service: info.Service()}
	answer := func(r Result, t packet.Trouble) Result {
		r.Answer = e.answer(s, b, info, t, now)
		return r
	}
	if v := e.model.FromLeased(s.class, p, s.leased); !v.OK {
		return e.lose(s, site.Source, v)
	}
	if v := e.model.Selected(s.class, p); !v.OK {
		return answer(e.lose(s, site.Selectors, v), packet.Prohibited)
	}
	if info.Fragment {
		return e.lose(s, site.Rules, site.Verdict{Setting: "rules"})
	}
	if info.ICMPError() {
		return e.reportFromTunnel(s, b, info)
	}
	key := personKey(info)
	f := e.flows[key]
	if f != nil && e.outdated(f, now) && !e.judgeAgain(f, now) {
		f = nil
	}
	logged := ""
	if f == nil {
		rule, v := e.model.Judge(s.class, p, site.At(now))
		if !v.OK {
			if rule != nil {
				e.count(rule.Name, len(b), true)
				if rule.Log {
					logged = rule.Name
				}
			}
			r := answer(e.lose(s, site.Rules, v), packet.Prohibited)
			r.Logged = logged
			return r
		}
		var r Result
		if f, r = e.openFlow(s, rule, key, p, now); f == nil {
			if r.Station == site.Routing {
				return answer(r, packet.NoRoute)
			}
			return r
		}
		if rule.Log {
			logged = rule.Name
		}
	}
	e.count(f.rule, len(b), false)
	f.touch(info, now, false)
	if f.out.Self {
		return Result{Session: s, Packet: e.toPerson(s, packet.EchoReply(b, info), now), Logged: logged}
	}
	if info.HopLimit <= 1 {
		return answer(e.lose(s, site.Routing, site.Verdict{}), packet.TimeExceeded)
	}
	if len(b) > InsideMTU {
		r := e.lose(s, site.Size, site.Verdict{})
		r.Answer = packet.Error(b, info, e.ownAddress(info.Src.Is4()), packet.TooBig, InsideMTU)
		return r
	}
	packet.DecrementHopLimit(b)
	if s.ClampMSS {
		packet.ClampMSS(b, info, s.MTU)
	}
	if f.src != info.Src || f.srcPort != key.srcPort {
		packet.SetSrc(b, &info, f.src, f.srcPort)
	}
	return Result{Inside: &f.out, Packet: b, Logged: logged}
}

// answer writes ICMP to the person about their packet, at most answersMost a second for each session (RFC 1812 §4.3.2.8).
func (e *Engine) answer(s *Session, b []byte, info packet.Info, t packet.Trouble, now time.Time) []byte {
	if second := now.Unix(); s.answersAt != second {
		s.answersAt, s.answers = second, 0
	}
	if s.answers++; s.answers > answersMost {
		return nil
	}
	return packet.Error(b, info, e.ownAddress(info.Src.Is4()), t, 0)
}

// ownAddress is the gateway's first inside address of a family, from which it speaks to people.
func (e *Engine) ownAddress(v4 bool) netip.Addr {
	for _, at := range e.model.Gateway.Inside {
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
	e.mu.Lock()
	defer e.mu.Unlock()
	info, err := packet.Parse(b)
	if err != nil {
		return e.stray("malformed")
	}
	b = b[:info.Size]
	switch {
	case info.Fragment:
		return e.stray("fragment")
	case info.ICMPError():
		return e.reportFromInside(b, info, now)
	}
	f := e.backs[otherKey(info)]
	if f != nil && e.outdated(f, now) && !e.judgeAgain(f, now) {
		f = nil
	}
	var opened Result
	if f == nil {
		if info.EchoRequest() && e.model.OwnAddresses().Contains(info.Dst) {
			return Result{Answer: packet.EchoReply(b, info)}
		}
		if f, opened = e.openInward(info, outside, now); f == nil {
			return opened
		}
	}
	if info.HopLimit <= 1 {
		return Result{Station: site.Routing, Answer: packet.Error(b, info, e.ownAddress(info.Src.Is4()), packet.TimeExceeded, 0)}
	}
	s := f.session
	if len(b) > s.MTU {
		s.Counters.Lost[site.Size]++
		return Result{Station: site.Size, Answer: packet.Error(b, info, e.ownAddress(info.Src.Is4()), packet.TooBig, s.MTU)}
	}
	f.touch(info, now, true)
	if f.inward {
		e.count(f.rule, len(b), false)
	}
	packet.DecrementHopLimit(b)
	if s.ClampMSS {
		packet.ClampMSS(b, info, s.MTU)
	}
	if f.src != f.key.src || f.srcPort != f.key.srcPort {
		packet.SetDst(b, &info, f.key.src, f.key.srcPort)
	}
	return Result{Session: s, Packet: e.toPerson(s, b, now), Logged: opened.Logged}
}

func (e *Engine) toPerson(s *Session, b []byte, now time.Time) []byte {
	s.Counters.OutPackets++
	s.Counters.OutBytes += uint64(len(b))
	s.Counters.LastOut = now
	return b
}

func (e *Engine) stray(station string) Result {
	e.strays[station]++
	return Result{Station: station}
}

// reportFromInside passes an ICMP error about something that a person sent, the quoted packet translated back.
func (e *Engine) reportFromInside(b []byte, info packet.Info, now time.Time) Result {
	in, _, err := packet.Quoted(b, info)
	if err != nil {
		return e.stray(site.State)
	}
	f := e.backs[personKey(in)]
	if f == nil || info.HopLimit <= 1 {
		return e.stray(site.State)
	}
	if f.src != f.key.src || f.srcPort != f.key.srcPort {
		if packet.SetQuoted(b, info, f.key.src, f.key.srcPort, true) != nil {
			return e.stray(site.State)
		}
		packet.SetDst(b, &info, f.key.src, info.Ident)
	}
	packet.DecrementHopLimit(b)
	return Result{Session: f.session, Packet: e.toPerson(f.session, b, now)}
}

// reportFromTunnel passes an ICMP error about something that was sent to the person.
func (e *Engine) reportFromTunnel(s *Session, b []byte, info packet.Info) Result {
	in, _, err := packet.Quoted(b, info)
	if err != nil {
		return e.lose(s, site.Rules, site.Verdict{Setting: "rules"})
	}
	f := e.flows[otherKey(in)]
	if f == nil || f.session != s || f.out.Self || info.HopLimit <= 1 {
		return e.lose(s, site.Rules, site.Verdict{Setting: "rules"})
	}
	if f.src != f.key.src || f.srcPort != f.key.srcPort {
		if packet.SetQuoted(b, info, f.src, f.srcPort, false) != nil {
			return e.lose(s, site.Rules, site.Verdict{Setting: "rules"})
		}
		packet.SetSrc(b, &info, f.src, info.Ident)
	}
	packet.DecrementHopLimit(b)
	return Result{Inside: &f.out, Packet: b}
}

func (e *Engine) count(rule string, size int, opened bool) {
	c := e.rules[rule]
	if c == nil {
		c = &RuleCounters{}
		e.rules[rule] = c
	}
	if opened {
		c.Flows++
	}
	c.Packets++
	c.Bytes += uint64(size)
}

// Rules gives a copy of what each rule has counted.
func (e *Engine) Rules() map[string]RuleCounters {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := map[string]RuleCounters{}
	for name, c := range e.rules {
		out[name] = *c
	}
	return out
}

// CountersOf gives a copy of a session's counters.
func (e *Engine) CountersOf(s *Session) Counters {
	e.mu.Lock()
	defer e.mu.Unlock()
	c := s.Counters
	c.Lost = map[string]uint64{}
	for k, v := range s.Counters.Lost {
		c.Lost[k] = v
	}
	return c
}

// LastIn is when the session's device was last heard.
func (e *Engine) LastIn(s *Session) time.Time {
	e.mu.Lock()
	defer e.mu.Unlock()
	return s.Counters.LastIn
}

// Flows is how many flows are known.
func (e *Engine) Flows() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.flows)
}
