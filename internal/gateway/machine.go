package gateway

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

const answerTime = 10 * time.Second // for whoever keeps the passwords

// perform does what the protocol machine wants done. Sessions come up before the datagram that tells the device so, for
// it may send at once. g.mu is held.
func (g *Gateway) perform(outs []ike.Output) {
	for _, o := range outs {
		switch o := o.(type) {
		case ike.AskLogin:
			g.judge(o)
		case ike.AskLease:
			g.lease(o)
		case ike.Up:
			g.up(o)
		case ike.Renewed:
			if s := g.sessions[o.ID]; s != nil {
				g.install(s, o.Child)
			}
		case ike.Dropped:
			if found, ok := g.inbound.LoadAndDelete(o.In); ok {
				found.(*association).session.retire(o.In)
			}
		case ike.Moved:
			if s := g.sessions[o.ID]; s != nil {
				s.mu.Lock()
				s.peer = o.Peer
				s.mu.Unlock()
			}
		case ike.Down:
			g.down(o)
		case ike.Note:
			g.journal(Event{Kind: "refused", User: o.User, From: g.seenAt(o.Peer.Addr), Words: o.Words, Code: o.Code, Offered: o.Offered, Wanted: o.Wanted})
		case ike.KeyRow:
			if g.cfg.KeyLog != nil {
				fmt.Fprintf(g.cfg.KeyLog, "%s:%s\n", o.Table, o.Row)
			}
		}
	}
	for _, o := range outs {
		send, ok := o.(ike.Send)
		switch {
		case !ok:
		case send.To.TCP:
			g.streams.send(send.To.Addr, make([]byte, markerLen), send.Data)
		default:
			g.cfg.Sockets.sendIKE(send.To, send.Data)
		}
	}
}

func (g *Gateway) journal(e Event) {
	e.Time = time.Now()
	ok, held := g.lines.lets(e.Kind, e.Time)
	if !ok {
		return
	}
	if held > 0 {
		e.Words += fmt.Sprintf(" (%d lines of this kind before it were left out: too many in a second)", held)
	}
	g.cfg.Journal(e)
}

// judge asks about a login round without holding up anybody else.
func (g *Gateway) judge(ask ike.AskLogin) {
	g.done.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), answerTime)
		defer cancel()
		v := g.cfg.People.Judge(ctx, ask.Check)
		g.mu.Lock()
		defer g.mu.Unlock()
		g.perform(g.listener.Judged(time.Now(), ask.ID, v))
	})
}

func (g *Gateway) lease(ask ike.AskLease) {
	g.done.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), answerTime)
		defer cancel()
		groups, err := g.cfg.People.Groups(ctx, ask.User)
		g.mu.Lock()
		defer g.mu.Unlock()
		grant := ike.Grant{Refusal: "the groups of this user could not be looked up"}
		if err == nil {
			grant = g.grant(ask, groups)
		}
		g.perform(g.listener.Granted(time.Now(), ask.ID, grant))
		if l, held := g.held[ask.ID]; held && g.sessions[ask.ID] == nil { // the login failed after all
			g.release(l)
			delete(g.held, ask.ID)
		}
	})
}

func (g *Gateway) release(l lease) {
	if p := g.pools[l.pool]; p != nil {
		p.Release(l.addresses...)
	}
}

func (g *Gateway) up(o ike.Up) {
	l := g.held[o.ID]
	delete(g.held, o.ID)
	class := g.model.Class(l.groups)
	s := &session{id: o.ID, lease: l, suite: o.Suite, tunnel: o.Tunnel, nat: o.NAT, since: time.Now(), peer: o.Peer, routes: class.Passage.Routes,
		dns: slices.Clone(o.DNS), domains: slices.Clone(o.Domains)}
	mtu, clamp := plan.DefaultMTU, true
	if t := g.model.Names.Tunnels[o.Tunnel]; t != nil {
		mtu, clamp = t.InnerMTU(), !t.KeepMSS
	}
	s.fwd = &forward.Session{ID: uint64(o.ID), User: o.User, Groups: l.groups, Addresses: l.addresses, MTU: mtu, ClampMSS: clamp}
	g.engine.Attach(s.fwd)
	g.streams.alive(o.Peer)
	g.sessions[o.ID] = s
	g.install(s, o.Child)
	g.journal(Event{Kind: "login", User: o.User, From: g.seenAt(o.Peer.Addr),
		Words: fmt.Sprintf("logged in by passage %s and tunnel %s with address %s (%s)", l.passage, l.tunnel, netset.OfAddrs(l.addresses...), o.Suite)})
}

// install takes a Child SA into use: we send with the newest and receive with all that were not deleted.
func (g *Gateway) install(s *session, c ike.Child) {
	opener, errIn := esp.NewOpener(c.In, c.Algorithm, c.InKey)
	sealer, errOut := esp.NewSealer(c.Out, c.Algorithm, c.OutKey)
	if errIn != nil || errOut != nil {
		g.cfg.Log.Error("association not installed", "in", errIn, "out", errOut)
		return
	}
	s.mu.Lock()
	s.sealer = sealer
	s.inSPIs, s.openers = append(s.inSPIs, c.In), append(s.openers, opener)
	s.mu.Unlock()
	g.inbound.Store(c.In, &association{opener, s})
}

// retire forgets an association that is no longer received with, but not what was missed of it.
func (s *session) retire(spi uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.Index(s.inSPIs, spi); i >= 0 {
		s.missed += s.openers[i].Missing()
		s.inSPIs, s.openers = slices.Delete(s.inSPIs, i, i+1), slices.Delete(s.openers, i, i+1)
	}
}

func (g *Gateway) down(o ike.Down) {
	s := g.sessions[o.ID]
	if s == nil {
		return
	}
	delete(g.sessions, o.ID)
	for _, spi := range s.inSPIs {
		g.inbound.Delete(spi)
	}
	g.engine.Detach(s.fwd)
	g.release(s.lease)
	c := s.fwd.Counters
	if g.cfg.Over != nil {
		g.cfg.Over(s.status(c, g.seenAt(s.peer.Addr)), o.Reason)
	}
	g.journal(Event{Kind: "ended", User: o.User, From: g.seenAt(s.peer.Addr), Words: fmt.Sprintf("%s; %d packets came, %d went, %d were lost",
		o.Reason, c.InPackets, c.OutPackets, lostOf(c))})
}

func lostOf(c forward.Counters) (n uint64) {
	for _, v := range c.Lost {
		n += v
	}
	return n
}
