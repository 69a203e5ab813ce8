package gateway

import (
	"context"
	"encoding/binary"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/ipv4"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/ike"
)

const (
	tickEvery = 250 * time.Millisecond
	heardMost = 2 * time.Second // how often the protocol machine is told that ESP arrives
)

// dropCounters count datagrams that are dropped without an answer.
type dropCounters struct {
	unknownSPI, replayed, forged, short atomic.Uint64
}

var buffers = sync.Pool{New: func() any { return new([bufferSize]byte) }}

func (g *Gateway) run(ctx context.Context) {
	g.cfg.Sockets.rearm()
	g.done.Go(func() {
		read(g.cfg.Sockets.ike, func(batch []ipv4.Message) {
			for _, m := range batch {
				g.handleIKE(ike.Peer{Addr: sender(m)}, m.Buffers[0][:m.N])
			}
		})
	})
	g.done.Go(func() {
		read(g.cfg.Sockets.natt, g.handleNATT)
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
				}
				g.mu.Unlock()
				if n%40 == 0 {
					g.engine.Tick(now)
				}
			}
		}
	})
}

func (g *Gateway) handleIKE(from ike.Peer, data []byte) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.perform(g.listener.Handle(time.Now(), from, append([]byte(nil), data...)))
}

func (g *Gateway) handleNATT(batch []ipv4.Message) {
	frames := make([]Frame, 0, len(batch))
	for _, m := range batch {
		if f, ok := g.handleMessage(ike.Peer{Addr: sender(m), NATT: true}, m.Buffers[0][:m.N]); ok {
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
	inner, err := a.opener.Open(b)
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
	a.session.heard(g, from, now)
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
	if r.Logged != "" {
		words := "flow permitted by rule " + r.Logged
		if r.Station != "" {
			words = "packet refused by rule " + r.Logged
		}
		g.journal(Event{Kind: "rule", User: a.session.fwd.User, Words: words})
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

// heard tells the protocol machine, now and then, that the device is there, and at once when it has moved.
func (s *session) heard(g *Gateway, from ike.Peer, now time.Time) {
	s.mu.Lock()
	tell := s.peer != from || now.Sub(s.toldAt) > heardMost
	if tell {
		s.toldAt = now
	}
	s.mu.Unlock()
	if tell {
		g.mu.Lock()
		g.perform(g.listener.Heard(now, s.id, from))
		g.mu.Unlock()
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
		if r.Logged != "" {
			g.journalInward(r)
		}
		if r.Session == nil {
			continue
		}
		if found := g.session(ike.ID(r.Session.ID)); found != nil {
			if came != nil {
				found.recorder.Load().take(1, false, came, "")
			}
			g.toPerson(found, r.Packet)
		}
	}
}

func (g *Gateway) journalInward(r forward.Result) {
	if r.Session != nil {
		g.journal(Event{Kind: "rule", User: r.Session.User, Words: "flow from inside to this person's device permitted by rule " + r.Logged})
		return
	}
	g.journal(Event{Kind: "rule", User: r.User, Words: "packet from inside to this person's device refused by rule " + r.Logged})
}

func (g *Gateway) session(id ike.ID) *session {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.sessions[id]
}

// routeAnswer finds the way for an ICMP answer of the gateway's own.
func (g *Gateway) routeAnswer(r forward.Result) (Frame, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	out, ok := g.model.RouteOf(r.Answer)
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
	sealer, peer := s.sealer, s.peer
	s.mu.Unlock()
	out, err := sealer.Seal(buf[:], esp.Headroom, len(b))
	if err != nil {
		g.cfg.Log.Warn("packet not sealed", "user", s.fwd.User, "error", err)
		return
	}
	if peer.TCP {
		g.streams.send(peer.Addr, out)
		return
	}
	_, _ = g.cfg.Sockets.natt.WriteToUDPAddrPort(out, peer.Addr)
}
