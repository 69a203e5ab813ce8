package ikev2

import (
	"context"
	"fmt"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/guard"
)

// retiredTime is how long an association that was deleted is received with: packets overtake each other.
const retiredTime = time.Second

// perform does what the protocol machine wants done. Sessions come up before the datagram that tells the device so, for
// it may send at once. s.mu is held.
func (s *server) perform(outs []ike.Output) {
	for _, o := range outs {
		switch o := o.(type) {
		case ike.Work:
			select {
			case s.work <- o:
			default:
				s.late.Add(1)
				if o.Needed { // else the login is forgotten when its time is over
					s.perform(s.machine.Finish(time.Now(), o.Do()))
				}
			}
		case ike.AskLogin:
			s.ask(o)
		case ike.TalkOver:
			o.Talk.End()
		case ike.AskLease:
			s.admit(o)
		case ike.AskBack:
			s.back(o)
		case ike.AskShared:
			s.shared(o)
		case ike.AskKey:
			s.owner(o)
		case ike.Up:
			s.up(o)
		case ike.Expected:
			s.early.expect(o.In)
		case ike.Unexpected:
			s.early.take(o.In)
		case ike.Renewed:
			if l := s.links[o.ID]; l != nil {
				l.install(o.Child, o.Asked)
				s.catchUp(s.early.take(o.Child.In))
			}
		case ike.Dropped:
			if found := s.inbound.find(o.In); found != nil {
				found.link.retire(o.In)
				// What left before the deletion and comes after it is still taken; of a session that is over nothing passes
				// all the same.
				guard.After(retiredTime, "ikev2.retired", func() { s.inbound.remove(o.In, found) })
			}
		case ike.Preferred:
			if l := s.links[o.ID]; l != nil {
				l.prefer(o.In)
			}
		case ike.Moved:
			if l := s.links[o.ID]; l != nil {
				l.moved(o.Peer)
			}
		case ike.Proved:
			if l := s.links[o.ID]; l != nil {
				l.proved(o.Peer)
			}
		case ike.Measured:
			if l := s.links[o.ID]; l != nil {
				l.measured(o.Octets)
			}
		case ike.Down:
			if l := s.links[o.ID]; l != nil {
				s.down(l, o.Reason)
			}
		case ike.Note:
			s.host.Refused(tunnel.Refusal{From: s.host.SeenAt(o.Peer.Addr), User: o.User, Known: o.Known, Reason: o.Reason})
		case ike.KeyRow:
			if s.KeyLog != nil {
				fmt.Fprintf(s.KeyLog, "%s:%s\n", o.Table, o.Row)
			}
		}
	}
	for _, o := range outs {
		send, ok := o.(ike.Send)
		switch {
		case !ok:
		case send.To.TCP:
			s.streams.send(send.To.Addr, make([]byte, markerLen), send.Data)
		default:
			s.Sockets.sendIKE(send.To, send.Data)
		}
	}
}

// labour works out key exchanges and signatures, so that neither packets nor other messages wait for them.
func (s *server) labour(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case w := <-s.work:
			finish := w.Do()
			s.withMachine(func(l *ike.Listener) []ike.Output { return l.Finish(time.Now(), finish) })
		}
	}
}

// ask takes a login a step further without holding up anybody else.
func (s *server) ask(ask ike.AskLogin) {
	s.done.Go("ikev2.ask", func() {
		talk := ask.Talk
		if talk == nil {
			talk = s.host.Begin(login.Call{From: s.host.SeenAt(ask.From.Addr).Addr(), Server: ask.Server, Tunnel: ask.Tunnel})
		}
		step := talk.Next(ask.Message)
		s.withMachine(func(l *ike.Listener) []ike.Output { return l.Told(time.Now(), ask.ID, talk, step) })
	})
}

// back asks the gateway who it is whom it remembered.
func (s *server) back(ask ike.AskBack) {
	s.done.Go("ikev2.back", func() {
		who := s.host.Back(ask.Remember)
		s.withMachine(func(l *ike.Listener) []ike.Output { return l.Back(time.Now(), ask.ID, who) })
	})
}

// owner asks the gateway whose key it is that somebody has.
func (s *server) owner(ask ike.AskKey) {
	s.done.Go("ikev2.owner", func() {
		who := s.host.Owner(login.Key{Tunnel: ask.Tunnel, Public: ask.Shown.PublicKey, Chain: ask.Shown.Chain})
		s.withMachine(func(l *ike.Listener) []ike.Output { return l.Owner(time.Now(), ask.ID, who) })
	})
}

// shared asks the gateway for a key that a person and it both know.
func (s *server) shared(ask ike.AskShared) {
	s.done.Go("ikev2.shared", func() {
		k := s.host.Shared(login.SharedKey{MixedIn: ask.MixedIn, Identity: ask.Identity, From: s.host.SeenAt(ask.From.Addr).Addr()})
		s.withMachine(func(l *ike.Listener) []ike.Output { return l.Shared(ask.ID, k) })
	})
}

// admit asks the gateway to let somebody in who logged in rightly.
func (s *server) admit(ask ike.AskLease) {
	s.done.Go("ikev2.admit", func() {
		x, grant := s.host.Admit(tunnel.Request{
			User: ask.User, Groups: ask.Groups, Limits: ask.Limits, Tunnel: ask.Tunnel, Algorithms: ask.Suite, From: s.host.SeenAt(ask.From.Addr),
			Device: ask.Device, Alone: ask.Alone, Stamp: ask.Stamp, Back: ask.Back, Key: ask.Key, Coded: ask.Coded, ProvedBy: ask.ProvedBy,
			SharedKeys: ask.SharedKeys, SafeLogin: ask.SafeLogin, SafeTraffic: ask.SafeTraffic,
			Want4: ask.Want4, Want6: ask.Want6,
		})
		if s.granted(ask.ID, x, grant) { // the login failed after all
			s.host.Failed(x)
		}
	})
}

// granted hands a grant to the protocol machine, and tells whether its login was over already.
func (s *server) granted(id ike.ID, x *session.Session, grant tunnel.Grant) (waits bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x != nil {
		s.admitted[id] = x
	}
	if s.machine != nil {
		c := grant.Configuration
		s.perform(s.machine.Granted(time.Now(), id, ike.Grant{
			Configuration: ike.Configuration{
				Addresses: c.Addresses, Prefixes: c.Prefixes, DNS: c.DNS, Domains: c.Domains, Routes: c.Routes, Full: c.Full,
			},
			Remember: grant.Remember, Until: grant.Until,
			OnePlace: grant.OnePlace, Patience: grant.Patience, Refusal: grant.Refusal, Exhausted: grant.Exhausted, Later: grant.Later,
		}))
	}
	_, waits = s.admitted[id]
	delete(s.admitted, id)
	return waits
}

func (s *server) up(o ike.Up) {
	x := s.admitted[o.ID]
	delete(s.admitted, o.ID)
	l := &link{server: s, session: x, id: o.ID, nat: o.NAT, peer: o.Peer, onePlace: o.OnePlace}
	l.unproved.Store(o.Unproved)
	if x == nil || !s.host.Up(x, l, o.Addresses) { // it was ended while its device was being told
		s.perform(s.machine.End(time.Now(), o.ID, reason.Of(reason.UserChangedEarly, nil)))
		return
	}
	s.links[o.ID], s.of[x] = l, l
	s.streams.alive(o.Peer)
	if o.Child.In != 0 {
		l.install(o.Child, true)
	}
}

func (s *server) down(l *link, why reason.Reason) {
	delete(s.links, l.id)
	delete(s.of, l.session)
	l.drop()
	s.host.Down(l.session, why)
}

var _ session.Path = (*link)(nil)
