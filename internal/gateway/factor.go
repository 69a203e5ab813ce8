package gateway

import (
	"context"
	"net/netip"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/core/tunnel"
)

// heldMost is for how long a session is held before it ends: its address is somebody else's then.
const heldMost = 15 * time.Minute

// factor is the second factor of somebody who comes in.
type factor struct {
	with  bool      // it was given with the login
	given time.Time // when it was; zero: it was not
}

// factorOf looks what is known of the second factor of somebody who logged in, where their passage asks for one.
func (g *Gateway) factorOf(r tunnel.Request) (f factor) {
	now := time.Now()
	if r.Coded {
		return factor{true, now}
	}
	g.mu.Lock()
	class := g.model.Class(r.Groups)
	g.mu.Unlock()
	if class.Passage == nil || !class.Passage.Factor.Asks(r.Groups) || class.Passage.Factor.Remember == 0 {
		return f
	}
	keys := keysOf(r.Key, r.SharedKeys)
	if back, ok := read(r.Back); ok {
		f.given, keys = back.Coded, keysOf(back.Key, back.Shared)
	}
	if len(keys) > 0 {
		ctx, stop := context.WithTimeout(context.Background(), answerTime)
		defer stop()
		if at := g.cfg.People.Coded(ctx, login.Coded{User: r.User, Keys: keys}); at.After(f.given) {
			f.given = at
		}
	}
	if now.Sub(f.given) > time.Duration(class.Passage.Factor.Remember) {
		f.given = time.Time{}
	}
	return f
}

// keysOf name what a device came in by that it alone has, or its person: its key or certificate, by fingerprint, and shared keys.
func keysOf(key []byte, shared []string) (out []string) {
	if key != nil {
		out = append(out, cert.Fingerprint(key))
	}
	return append(out, shared...)
}

// missing tells whether a session of theirs is held.
func (f factor) missing(m *site.Model, r tunnel.Request, now time.Time) bool {
	asks := m.Class(r.Groups).Passage.Factor
	switch {
	case !asks.Asks(r.Groups), asks.Excepts(r.From.Addr()), f.with:
		return false
	}
	return f.given.IsZero() || now.Sub(f.given) > time.Duration(asks.Remember)
}

// factorless tells why a session must end that has not, or no more, what its passage asks for; none: it may go on.
func (g *Gateway) factorless(m *site.Model, s *session.Session, now time.Time) reason.Reason {
	c := m.Class(s.Groups)
	if c.Passage == nil {
		return reason.Reason{} // a commit ends it
	}
	held, coded := s.Factor()
	asks := c.Passage.Factor
	switch {
	case held && !asks.Asks(s.Groups): // nor is it any more
		s.Release(time.Time{})
	case held && now.Sub(s.Since) >= heldMost:
		return reason.Of(reason.HeldTooLong, reason.With{reason.Limit: plan.Duration(heldMost).String(), reason.Passage: s.Passage})
	case held, !coded.IsZero(), !asks.Asks(s.Groups), len(asks.NotFrom) == 0, s.Path() == nil:
		return reason.Reason{} // without places a commit ends it
	case !asks.Excepts(g.seenAt(s.Path().Where().Addr).Addr()):
		return reason.Of(reason.LeftPlace, reason.With{reason.Passage: s.Passage})
	}
	return reason.Reason{}
}

// give takes a second factor from within a session, and ends that it is held if it is right.
func (g *Gateway) give(ctx context.Context, s *session.Session, code string) login.Outcome {
	at := g.seenAt(s.Path().Where().Addr)
	return g.given(s, at, g.cfg.People.Code(ctx, login.Code{User: s.User, Code: code, From: at.Addr(), Keys: keysOf(s.Key, s.SharedKeys)}))
}

// touch has a security key asked, judged, or added. It is added by who gives a code with it, and stays held until then.
func (g *Gateway) touch(ctx context.Context, s *session.Session, t login.Touch, code string) login.Outcome {
	at := g.seenAt(s.Path().Where().Addr)
	keys := keysOf(s.Key, s.SharedKeys)
	if !t.Adds {
		o := g.cfg.People.Code(ctx, login.Code{User: s.User, From: at.Addr(), Touch: &t, Keys: keys})
		if o.Why.Code == reason.SecurityKeyAsked {
			return o
		}
		return g.given(s, at, o)
	}
	held, coded := s.Factor()
	if held && coded.IsZero() {
		if o := g.cfg.People.Code(ctx, login.Code{User: s.User, Code: code, From: at.Addr(), Keys: keys}); !o.OK {
			return g.given(s, at, o)
		}
		s.Prove(time.Now())
	} else if !held {
		return login.Outcome{User: s.User, Known: true, Why: reason.Of(reason.SecurityKeyWrong, reason.With{
			reason.Error: "one is added where a code is asked for: connect again",
		})}
	}
	o := g.cfg.People.Code(ctx, login.Code{User: s.User, From: at.Addr(), Touch: &t})
	switch {
	case o.OK:
		g.journal(g.event(reason.Of(reason.FactorEnrolled, reason.With{
			reason.What: "a security key (" + t.Name + ")", reason.Source: at.String(),
		}), s.User, at.String()))
		return g.given(s, at, o)
	case o.Why.Code != reason.SecurityKeyAsked:
		g.noFactor(s, at, o.Why)
	}
	return o
}

// given is what becomes of a session by the outcome of a second factor.
func (g *Gateway) given(s *session.Session, at netip.AddrPort, o login.Outcome) login.Outcome {
	switch {
	case !o.OK:
		g.noFactor(s, at, o.Why)
	case s.Release(time.Now()):
		g.journal(g.event(reason.Of(reason.CodeGiven, reason.With{
			reason.Passage:   s.Passage,
			reason.Addresses: s.Leased().String(),
		}), s.User, at.String()))
	}
	return o
}

// mail has a code sent to whose session it is.
func (g *Gateway) mail(ctx context.Context, s *session.Session) login.Outcome {
	at := g.seenAt(s.Path().Where().Addr)
	o := g.cfg.People.Code(ctx, login.Code{User: s.User, Mail: true, From: at.Addr()})
	if o.OK {
		g.journal(g.event(o.Why, s.User, at.String()))
	} else {
		g.noFactor(s, at, o.Why)
	}
	return o
}
