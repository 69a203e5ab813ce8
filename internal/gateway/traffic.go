package gateway

import (
	"context"
	"encoding/binary"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/reason"
)

const (
	tickEvery = 250 * time.Millisecond
	heardMost = 2 * time.Second // how often the protocol machine is told that ESP arrives
	// messageQueue is how many IKE messages wait to be handled; more are lost, as on any link, and sent again by who sent them.
	messageQueue = 1024
)

// dropCounters count datagrams that are dropped without an answer.
type dropCounters struct {
	unknownSPI, replayed, forged, short atomic.Uint64
}

var buffers = sync.Pool{New: func() any { return new([bufferSize]byte) }}

func (g *Gateway) run(ctx context.Context) {
	g.cfg.Sockets.rearm()
	g.done.Go(func() { g.write(ctx) })
	g.done.Go(func() { g.converse(ctx) })
	g.done.Go(func() {
		g.cfg.Sockets.ike.read(func(batch []datagram) {
			for _, m := range batch {
				g.handleIKE(m.peer(false), m.data)
			}
		})
	})
	g.done.Go(func() {
		g.cfg.Sockets.natt.read(g.handleNATT)
	})
	g.done.Go(func() {
		t := time.NewTicker(tickEvery)
		defer t.Stop()
		for n := 0; ; n++ {
			select {
			case <-ctx.Done():
				return
			case now := <-t.C:
				g.mu.Lock()
				g.perform(g.listener.Tick(now))
				if n%4 == 0 {
					g.enforce(now)
					g.tellRefusals(now)
				}
				g.mu.Unlock()
				if n%40 == 0 {
					g.engine.Tick(now)
				}
			}
		}
	})
}

// message is an IKE message that came.
type message struct {
	from ike.Peer
	data []byte
}

// sign is a sign of life: ESP of a session that came from a peer.
type sign struct {
	at   time.Time
	id   ike.ID
	from ike.Peer
}

// handleIKE hands a message to the goroutine that handles them: its cryptography takes time, and whoever reads a socket has packets to see
// to.
func (g *Gateway) handleIKE(from ike.Peer, data []byte) {
	select {
	case g.messages <- message{from, append([]byte(nil), data...)}:
	default:
		g.late.Add(1)
	}
}

// converse handles IKE messages and signs of life, one after the other.
func (g *Gateway) converse(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case m := <-g.messages:
			g.mu.Lock()
			g.perform(g.listener.Handle(time.Now(), m.from, m.data))
			g.mu.Unlock()
		case x := <-g.signs:
			g.mu.Lock()
			for _, o := range g.listener.Heard(x.at, x.id, x.from) {
				if _, moved := o.(ike.Moved); !moved { // where the device is was noted when the packet came, and may be newer
					g.perform([]ike.Output{o})
				}
			}
			g.mu.Unlock()
		}
	}
}

func (g *Gateway) handleNATT(batch []datagram) {
	frames := make([]Frame, 0, len(batch))
	for _, m := range batch {
		if f, ok := g.handleMessage(m.peer(true), m.data); ok {
			frames = append(frames, f)
		}
	}
	if len(frames) > 0 && g.cfg.Inside != nil {
		g.cfg.Inside.Send(frames)
	}
}

// handleMessage tells IKE, ESP and keepalives apart (RFC 3948 §2). It gives the packet that was in ESP, if it goes on.
func (g *Gateway) handleMessage(from ike.Peer, b []byte) (Frame, bool) {
	switch {
	case len(b) == 1 && b[0] == 0xff:
	case len(b) < markerLen:
		g.dropped.short.Add(1)
	case binary.BigEndian.Uint32(b) == 0:
		g.handleIKE(from, b[markerLen:])
	default:
		return g.handleESP(from, b)
	}
	return Frame{}, false
}

func (g *Gateway) handleESP(from ike.Peer, b []byte) (Frame, bool) {
	spi, ok := esp.SPIOf(b)
	if !ok {
		g.dropped.short.Add(1)
		return Frame{}, false
	}
	found, ok := g.inbound.Load(spi)
	if !ok {
		g.dropped.unknownSPI.Add(1)
		return Frame{}, false
	}
	a := found.(*association)
	inner, newest, err := a.opener.Open(b)
	switch err {
	case nil:
	case esp.ErrReplay:
		g.dropped.replayed.Add(1)
		return Frame{}, false
	default:
		g.dropped.forged.Add(1)
		return Frame{}, false
	}
	now := time.Now()
	if a.waiting.Load() && a.waiting.Swap(false) {
		a.session.prefer(spi)
	}
	a.session.heard(g, from, now, newest, a.order)
	rec := a.session.recorder.Load()
	var came []byte
	if rec != nil {
		came = append(came, inner...)
	}
	r := g.engine.FromTunnel(a.session.fwd, inner, now)
	if rec != nil {
		rec.take(0, false, came, lostWords(r))
		if r.Inside != nil {
			rec.take(1, true, r.Packet, "")
		}
	}
	if r.Logged != nil {
		g.logRule(a.session.fwd.User, r)
	}
	if r.Answer != nil {
		g.toPerson(a.session, r.Answer)
	}
	switch {
	case r.Session != nil:
		g.toPerson(a.session, r.Packet)
	case r.Inside != nil:
		return Frame{*r.Inside, r.Packet}, true
	}
	return Frame{}, false
}

// heard tells the protocol machine, now and then, that the device is there, and at once when it has moved. A device is where its newest
// packet came from: one that is older, by its sequence number or by its association, does not move it back. What goes to the device goes
// there from now on, without waiting for the machine.
func (s *session) heard(g *Gateway, from ike.Peer, now time.Time, newest bool, order int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !newest || order < s.heardBy {
		from = s.peer
	}
	s.heardBy = max(s.heardBy, order)
	if s.peer == from && now.Sub(s.toldAt) <= heardMost {
		return
	}
	s.peer = from
	select {
	case g.signs <- sign{now, s.id, from}:
		s.toldAt = now
	default: // told by the next packet
		g.late.Add(1)
	}
}

// FromInside takes packets from the inside, or from the internet by the outside link. What is answered goes back by way of Inside.
func (g *Gateway) FromInside(batch [][]byte, outside bool) {
	now := time.Now()
	for _, b := range batch {
		var came []byte
		if g.recording.Load() > 0 {
			came = append(came, b...)
		}
		r := g.engine.FromInside(b, outside, now)
		if r.Answer != nil && g.cfg.Inside != nil {
			if f, ok := g.routeAnswer(r); ok {
				g.cfg.Inside.Send([]Frame{f})
			}
		}
		if r.Logged != nil {
			user := r.User
			if r.Session != nil {
				user = r.Session.User
			}
			g.logRule(user, r)
		}
		if r.Session == nil {
			continue
		}
		s := r.Session.Owner.(*session)
		if came != nil {
			s.recorder.Load().take(1, false, came, "")
		}
		g.toPerson(s, r.Packet)
	}
}

// logRule puts what a rule decided into the journal; its words are made when it is written.
func (g *Gateway) logRule(user string, r forward.Result) {
	g.put(item{event: Event{Kind: reason.KindRule, User: user}, rule: &decided{r.Logged, r.First, r.Station != ""}})
}

func (g *Gateway) session(id ike.ID) *session {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.sessions[id]
}

// routeAnswer finds the way for an ICMP answer of the gateway's own.
func (g *Gateway) routeAnswer(r forward.Result) (Frame, bool) {
	out, ok := g.engine.Model().RouteOf(r.Answer)
	return Frame{out, r.Answer}, ok
}

// toPerson seals a packet and sends it to where the device was last heard.
func (g *Gateway) toPerson(s *session, b []byte) {
	buf := buffers.Get().(*[bufferSize]byte)
	defer buffers.Put(buf)
	if esp.Headroom+len(b)+esp.Tailroom > len(buf) {
		return
	}
	s.recorder.Load().take(0, true, b, "")
	copy(buf[esp.Headroom:], b)
	s.mu.Lock()
	peer := s.peer
	var sealer *esp.Sealer
	if n := len(s.pairs); n > 0 {
		sealer = s.pairs[n-1].sealer
	}
	s.mu.Unlock()
	if sealer == nil { // the device took its last Child SA away
		return
	}
	out, err := sealer.Seal(buf[:], esp.Headroom, len(b))
	if err != nil {
		g.cfg.Log.Warn("packet not sealed", "user", s.fwd.User, "error", err)
		return
	}
	if peer.TCP {
		g.streams.send(peer.Addr, out)
		return
	}
	g.cfg.Sockets.natt.send(out, peer)
}
