package gateway

import (
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/core/tunnel"
)

// arrival is what packets that came together need on their way, kept from one batch to the next.
type arrival struct{ frames []Frames }

var arrivals = sync.Pool{New: func() any { return new(arrival) }}

// Arrived takes packets from devices.
func (h host) Arrived(batch []tunnel.Run) {
	g, now := h.g, time.Now()
	a := arrivals.Get().(*arrival)
	for _, r := range batch {
		g.fromDevice(a, r.Session, r.Packets, now)
	}
	if len(a.frames) > 0 && g.cfg.Inside != nil {
		g.cfg.Inside.Send(a.frames)
	}
	clear(a.frames) // the packets stand in buffers of whoever read them
	a.frames = a.frames[:0]
	arrivals.Put(a)
}

// fromDevice adds what goes inside of packets of one device.
func (g *Gateway) fromDevice(a *arrival, s *session.Session, packets []inside.Packet, now time.Time) {
	if rec := g.recorder(s); rec != nil {
		g.recorded(a, s, rec, packets, now)
		return
	}
	for len(packets) > 0 {
		n, frames, last := g.engine.FromTunnelAll(s, packets, now, a.frames)
		a.frames = frames
		g.goesOn(a, s, &last, packets[n-1])
		packets = packets[n:]
	}
}

// recorded does the same where somebody records the session: each packet as it came, and as it went on.
func (g *Gateway) recorded(a *arrival, s *session.Session, rec *recorder, packets []inside.Packet, now time.Time) {
	for _, p := range packets {
		came := slices.Clone(p.Bytes())
		r := g.engine.FromTunnel(s, p.Bytes(), now)
		rec.take(0, false, came, lostWords(r))
		if r.Inside != nil {
			rec.take(1, true, r.Packet, "")
		}
		g.goesOn(a, s, &r, p)
	}
}

// goesOn does with a packet of a device's what became of it.
func (g *Gateway) goesOn(a *arrival, s *session.Session, r *forward.Result, p inside.Packet) {
	if r.Logged != nil {
		g.logRule(s.User, *r)
	}
	if r.Answer != nil {
		g.toPerson(s, inside.Bare(r.Answer))
	}
	switch {
	case r.Page:
		g.page.take(r.Packet)
	case r.Session != nil:
		g.toDevice(*r, p)
	case r.Inside != nil && r.Cut():
		for _, x := range r.Parts(r.Packet) {
			a.frames = append(a.frames, frame(r.Inside, inside.Roomy(x)))
		}
	case r.Inside != nil:
		a.frames = append(a.frames, frame(r.Inside, p.Became(r.Packet)))
	}
}

// frame is a packet by itself.
func frame(by *site.Egress, p inside.Packet) Frames {
	return Frames{Egress: by, Packets: []inside.Packet{p}}
}

// FromInside takes packets from the inside, or from the internet by the outside link, with room around them as inside says: they are
// altered, and sealed where they stand. What is answered goes back by way of Inside.
func (g *Gateway) FromInside(batch []inside.Packet, outside bool) {
	now := time.Now()
	out := runs.Get().(*run)
	defer runs.Put(out)
	defer out.settle()
	for _, p := range batch {
		if p.Each > 0 && g.recording.Load() > 0 { // who reads a recording wants packets as devices have them
			segment.Each(p, func(one inside.Packet) { g.fromInside(out, one, outside, now) })
			continue
		}
		g.fromInside(out, p, outside, now)
	}
}

// fromInside takes one, which may be joined of several.
func (g *Gateway) fromInside(out *run, p inside.Packet, outside bool, now time.Time) {
	b := p.Bytes()
	var came []byte
	if g.recording.Load() > 0 {
		came = append(came, b...)
	}
	r := g.engine.FromInsideJoined(b, p.Each, outside, now)
	if r.Answer != nil && g.cfg.Inside != nil {
		out.settle() // what is sent inside may come back at once
		g.cfg.Inside.Send(g.routeAnswer(r))
	}
	if r.Logged != nil {
		user := r.User
		if r.Session != nil {
			user = r.Session.User
		}
		g.logRule(user, r)
	}
	if r.Session == nil {
		return
	}
	if came != nil {
		g.recorder(r.Session).take(1, false, came, "")
	}
	if !r.Cut() {
		g.together(out, r.Session, p.Became(r.Packet))
		return
	}
	for _, x := range r.Parts(r.Packet) {
		g.together(out, r.Session, inside.Roomy(x))
	}
}

// run is packets to one person's device, one after the other: they are sent together.
type run struct {
	to       *session.Session
	packets  []inside.Packet
	gathered session.Gathered // of sessions before, packets that are sent with those that follow
}

var runs = sync.Pool{New: func() any { return new(run) }}

// together sends a packet to a session's device with those before it, if they are that session's too.
func (g *Gateway) together(out *run, s *session.Session, p inside.Packet) {
	if out.to != s {
		out.flush()
		out.to = s
	}
	g.recorder(s).take(0, true, p.Bytes(), "")
	out.packets = append(out.packets, p)
}

// flush sends what is for the session: a packet that is alone together with what is for others.
func (r *run) flush() {
	if len(r.packets) > 0 {
		path := r.to.Path()
		if one, ok := path.(session.Gatherer); ok && len(r.packets) == 1 && r.packets[0].Each == 0 {
			r.gathered = one.Gather(r.packets[0], r.gathered)
		} else {
			r.scatter()
			path.SendAll(r.packets)
		}
	}
	clear(r.packets)
	r.to, r.packets = nil, r.packets[:0]
}

// scatter sends what was gathered.
func (r *run) scatter() {
	if r.gathered != nil {
		r.gathered.Flush()
		r.gathered = nil
	}
}

// settle sends what is left.
func (r *run) settle() {
	r.flush()
	r.scatter()
}

// toDevice sends a result's packet to its person, in place where it stands in p still.
func (g *Gateway) toDevice(r forward.Result, p inside.Packet) {
	if !r.Cut() {
		g.toPerson(r.Session, p.Became(r.Packet))
		return
	}
	for _, x := range r.Parts(r.Packet) {
		g.toPerson(r.Session, inside.Roomy(x))
	}
}

// logRule puts what a rule decided into the journal; its words are made when it is written.
func (g *Gateway) logRule(user string, r forward.Result) {
	g.put(item{
		event: Event{Kind: reason.KindRule, Gateway: g.name, User: user}, rule: &decided{r.Logged, r.First, r.Station != ""},
	})
}

// routeAnswer finds the way for an ICMP answer of the gateway's own.
func (g *Gateway) routeAnswer(r forward.Result) (frames []Frames) {
	out, ok := g.engine.Model().RouteOf(r.Answer)
	if !ok {
		return nil
	}
	for _, x := range r.Parts(r.Answer) {
		frames = append(frames, frame(&out, inside.Bare(x)))
	}
	return frames
}

// toPerson sends a packet to a session's device.
func (g *Gateway) toPerson(s *session.Session, p inside.Packet) {
	g.recorder(s).take(0, true, p.Bytes(), "")
	s.Path().Send(p)
}
