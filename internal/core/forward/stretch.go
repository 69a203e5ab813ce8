package forward

import (
	"time"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/site"
)

// Frames are packets for the inside or the internet, one after the other, with the way that they leave by, which is not to be altered.
type Frames struct {
	Egress  *site.Egress
	Packets []inside.Packet
}

// FromTunnel takes a packet that arrived, authentic, from a person. b may be altered, and is part of the result.
func (e *Engine) FromTunnel(from *Session, b []byte, now time.Time) Result {
	from.Lock()
	defer from.Unlock()
	x := e.stretch(from, now)
	x.last = true
	r := x.take(b)
	x.settle()
	return r
}

// FromTunnelAll takes packets of one person that came one after the other, as FromTunnel does, and appends to out what goes inside and of
// which nothing else is to be told, as parts of packets. Behind the first of which something is it stops, and tells that: n is how many it
// took. The session is locked once for all of them, and packets that follow one of their flow are neither read nor looked up.
func (e *Engine) FromTunnelAll(from *Session, packets []inside.Packet, now time.Time, out []Frames) (n int, all []Frames, last Result) {
	from.Lock()
	defer from.Unlock()
	x := e.stretch(from, now)
	defer x.settle()
	run := 0 // where those begin that leave by the same way
	var by *site.Egress
	for n < len(packets) {
		p, way := &packets[n], by
		x.last = n == len(packets)-1
		if size, flags, ok := x.ends.Have(p.Bytes()); ok && flags&packet.SYN == 0 {
			x.came.add(1, size)
			x.passes(size, flags)
			p.Len, way = size, x.flow.out
		} else if last = x.take(p.Bytes()); last.onlyInside() {
			*p, way = p.Became(last.Packet), last.Inside
		} else {
			return n + 1, with(out, by, packets[run:n]), last
		}
		if way != by {
			out = with(out, by, packets[run:n])
			run, by = n, way
		}
		n++
	}
	return n, with(out, by, packets[run:]), Result{}
}

func with(out []Frames, by *site.Egress, packets []inside.Packet) []Frames {
	if len(packets) == 0 {
		return out
	}
	return append(out, Frames{by, packets})
}

// onlyInside tells whether nothing is to be told of a packet but where it goes.
func (r *Result) onlyInside() bool {
	return r.Inside != nil && r.Answer == nil && r.Logged == nil && !r.Cut()
}

// stretch is what is the same for packets of a session that come while it is locked.
type stretch struct {
	e     *Engine
	m     *site.Model
	s     *attached // nil: packets do not pass
	class *site.Class
	now   time.Time
	last  bool  // no packet follows
	came  tally // that the session has not counted yet

	flow *flow       // of the packet before; nil: none that others can go on with
	ends packet.Ends // of its packets, where those stay as they are; otherwise of none
	own  tally       // that it has not counted yet, nor its rule
	over ending      // that it does not know of yet
}

// stretch begins one. The session is locked.
func (e *Engine) stretch(from *Session, now time.Time) stretch {
	x := stretch{e: e, m: e.model.Load(), s: of(from), now: now}
	if x.s != nil {
		x.class = x.s.in(x.m)
	}
	return x
}

// begins says of which flow a packet is that was read.
func (x *stretch) begins(f *flow, b []byte, info packet.Info) {
	if x.flow == f {
		return
	}
	x.leave()
	x.flow, x.own, x.over = f, tally{}, ending{}
	if x.ends = (packet.Ends{}); x.e.ByKernel && !x.last {
		x.ends = packet.EndsOf(b, info)
	}
}

// passes counts a packet of the flow.
func (x *stretch) passes(octets int, flags uint8) {
	x.own.add(1, octets)
	if flags&(packet.FIN|packet.RST) != 0 {
		x.over = x.over.and(ended(flags, byPerson))
	}
}

// leave has the flow, and its rule, count what came of it.
func (x *stretch) leave() {
	f := x.flow
	if f == nil {
		return
	}
	f.count.passed(x.own)
	x.e.touch(f, &f.sent, x.own, x.over, x.now)
	x.flow = nil
}

// settle counts what came.
func (x *stretch) settle() {
	x.leave()
	if x.came.packets > 0 {
		x.s.Counters.InPackets += x.came.packets
		x.s.Counters.InBytes += x.came.bytes
		x.s.Counters.LastIn = x.now
	}
}

// take takes the next packet.
func (x *stretch) take(b []byte) Result {
	s := x.s
	info, err := packet.Parse(b)
	switch {
	case s == nil:
		return Result{Station: site.Source}
	case err != nil || x.class.Passage == nil:
		return s.lose(site.Source, site.Ref{})
	}
	b = b[:info.Size]
	x.came.add(1, len(b))
	var key flowKey
	var f *flow
	if !info.Fragment && !info.ICMPError() {
		key = personKey(info)
		f = s.flows[key]
		if f != nil && f.through == x.m && !f.outdated(x.m, x.now) { // no station has changed since; a session with flows is not held
			return x.goes(f, b, info, packet.Came{})
		}
	}
	r := x.judge(b, info, key, f)
	if s.followed != nil && !info.Fragment && !info.ICMPError() {
		s.followed.notes(s, info, key, r)
	}
	return r
}
