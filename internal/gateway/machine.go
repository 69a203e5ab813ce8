package gateway

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

// retiredTime is how long an association that was deleted is received with: packets overtake each other.
const retiredTime = time.Second

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
				g.install(s, o.Child, o.Asked)
			}
		case ike.Dropped:
			if found, ok := g.inbound.Load(o.In); ok {
				found.(*association).session.retire(o.In)
				// What left before the deletion and comes after it is still taken; of a session that is over nothing passes all the same.
				time.AfterFunc(retiredTime, func() { g.inbound.CompareAndDelete(o.In, found) })
			}
		case ike.Preferred:
			if s := g.sessions[o.ID]; s != nil {
				s.prefer(o.In)
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
			g.refused(time.Now(), o)
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

// judge asks about a login round without holding up anybody else.
func (g *Gateway) judge(ask ike.AskLogin) {
	g.done.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), answerTime)
		defer cancel()
		v := g.cfg.People.Judge(ctx, ask.Check, g.whereIs(ask.From).Addr())
		g.mu.Lock()
		defer g.mu.Unlock()
		g.perform(g.listener.Judged(time.Now(), ask.ID, v))
	})
}

// lease looks up the groups of somebody who logged in rightly, leases, has the admission recorded, and lets them in.
func (g *Gateway) lease(ask ike.AskLease) {
	g.done.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), answerTime)
		defer cancel()
		groups, err := g.cfg.People.Groups(ctx, ask.User)
		grant := ike.Grant{Refusal: reason.Of(reason.GroupsUnknown, nil)}
		if err == nil {
			grant = g.granted(ask, groups)
		}
		if grant.Refusal.None() {
			if err := g.admit(ask); err != nil {
				grant = ike.Grant{Refusal: reason.Of(reason.NotRecorded, reason.With{reason.Error: err.Error()})}
			}
		}
		g.mu.Lock()
		g.perform(g.listener.Granted(time.Now(), ask.ID, grant))
		if l, held := g.held[ask.ID]; held && g.sessions[ask.ID] == nil { // the login failed after all
			g.release(l)
			delete(g.held, ask.ID)
		}
		stands := g.sessions[ask.ID] != nil
		g.mu.Unlock()
		if !stands {
			return
		}
		// Whoever was removed, or put into other groups, in the middle of this has no session.
		again, stop := context.WithTimeout(context.Background(), answerTime)
		defer stop()
		if now, err := g.cfg.People.Groups(again, ask.User); err != nil || !slices.Equal(now, groups) {
			_ = g.End(uint64(ask.ID), reason.Of(reason.UserChangedEarly, nil))
		}
	})
}

func (g *Gateway) granted(ask ike.AskLease, groups []string) ike.Grant {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.grant(ask, groups)
}

// admit records a login that is about to be let in, and waits for that.
func (g *Gateway) admit(ask ike.AskLease) error {
	g.mu.Lock()
	l := g.held[ask.ID]
	g.mu.Unlock()
	e := Tell(reason.Of(reason.LoggedIn, reason.With{
		reason.Passage: l.passage, reason.Tunnel: l.tunnel, reason.Addresses: netset.OfAddrs(l.addresses...).String(), reason.Suite: ask.Suite,
	}), ask.User, g.seenAt(ask.From.Addr))
	if g.cfg.Admit == nil {
		g.journal(e)
		return nil
	}
	return g.cfg.Admit(e)
}

func (g *Gateway) release(l lease) {
	if p := g.pools[l.pool]; p != nil {
		p.Release(l.addresses...)
	}
}

func (g *Gateway) up(o ike.Up) {
	l := g.held[o.ID]
	delete(g.held, o.ID)
	g.keepOnly(&l, o.Addresses)
	class := g.model.Class(l.groups)
	s := &session{
		id: o.ID, lease: l, suite: o.Suite, tunnel: o.Tunnel, nat: o.NAT, since: time.Now(), peer: o.Peer, routes: class.Passage.Routes,
		dns: slices.Clone(o.DNS), domains: slices.Clone(o.Domains),
	}
	mtu, clamp := plan.DefaultMTU, true
	if t := g.model.Names.Tunnels[o.Tunnel]; t != nil {
		mtu, clamp = t.InnerMTU(), !t.KeepMSS
	}
	s.fwd = &forward.Session{ID: uint64(o.ID), User: o.User, Groups: l.groups, Addresses: l.addresses, MTU: mtu, ClampMSS: clamp}
	s.fwd.Owner = s
	g.engine.Attach(s.fwd)
	g.streams.alive(o.Peer)
	g.sessions[o.ID] = s
	g.persons.add(s)
	g.install(s, o.Child, true)
}

// keepOnly gives back what was leased and is not used: addresses of a family that the device did not ask for.
func (g *Gateway) keepOnly(l *lease, used []netip.Addr) {
	rest := *l
	rest.addresses = slices.DeleteFunc(slices.Clone(l.addresses), func(a netip.Addr) bool { return slices.Contains(used, a) })
	g.release(rest)
	l.addresses = used
}

// install takes a Child SA into use: we receive with all that were not deleted, and send with the newest, where the device is ready for it.
func (g *Gateway) install(s *session, c ike.Child, ready bool) {
	opener, errIn := esp.NewOpener(c.In, c.Algorithm, c.InKey)
	sealer, errOut := esp.NewSealer(c.Out, c.Algorithm, c.OutKey)
	if errIn != nil || errOut != nil {
		g.cfg.Log.Error("association not installed", "in", errIn, "out", errOut)
		return
	}
	s.mu.Lock()
	waits := !ready && len(s.pairs) > 0
	s.pairs = append(s.pairs, pair{opener, sealer})
	if n := len(s.pairs); waits {
		s.pairs[n-1], s.pairs[n-2] = s.pairs[n-2], s.pairs[n-1]
	}
	s.order++
	a := &association{opener: opener, session: s, order: s.order}
	a.waiting.Store(waits)
	s.mu.Unlock()
	g.inbound.Store(c.In, a)
}

// prefer makes an association the one that is sent with.
func (s *session) prefer(spi uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.IndexFunc(s.pairs, func(p pair) bool { return p.opener.SPI == spi }); i >= 0 {
		p := s.pairs[i]
		s.pairs = append(slices.Delete(s.pairs, i, i+1), p)
	}
}

// retire forgets an association that is no longer received with, but not what was missed of it.
func (s *session) retire(spi uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.IndexFunc(s.pairs, func(p pair) bool { return p.opener.SPI == spi }); i >= 0 {
		s.missed += s.pairs[i].opener.Missing()
		s.pairs = slices.Delete(s.pairs, i, i+1)
	}
}

func (g *Gateway) down(o ike.Down) {
	s := g.sessions[o.ID]
	if s == nil {
		return
	}
	delete(g.sessions, o.ID)
	g.persons.remove(s)
	s.mu.Lock()
	for _, p := range s.pairs {
		g.inbound.Delete(p.opener.SPI)
	}
	from := g.seenAt(s.peer.Addr) // packets move it
	s.mu.Unlock()
	c := g.engine.Detach(s.fwd)
	g.release(s.lease)
	over := s.status(c, from)
	g.outbox.put(item{over: &over, why: o.Reason})
	g.journal(Tell(o.Reason.And(reason.With{
		reason.Passage: s.lease.passage, reason.Tunnel: s.tunnel, reason.In: fmt.Sprint(c.InPackets), reason.Out: fmt.Sprint(c.OutPackets),
		reason.Gone: fmt.Sprint(lostOf(c)),
	}), o.User, from))
}

func lostOf(c forward.Counters) (n uint64) {
	for _, v := range c.Lost {
		n += v
	}
	return n
}
