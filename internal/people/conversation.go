package people

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/eaptls"
	"yellowlantern/internal/people/source"
)

// Ways knows how people log in by the tunnels of the plan that runs.
type Ways interface {
	// Logins are how they do by one, in the plan's words, the preferred first; none: it is not known.
	Logins(tunnel string) []string
	// Asks tells whether people in these groups, who call from an address, are asked for a second factor.
	Asks(groups []string, from netip.Addr) bool
	// Challenges tells whether people in these groups log in by an answer to a challenge, or may.
	Challenges(groups []string) bool
	// Certificates are by which the service proves itself inside EAP by one.
	Certificates(ctx context.Context, tunnel string) ([]tls.Certificate, error)
}

const judgeTime = 10 * time.Second // for whoever keeps the passwords

// Begin implements gateway.People: it begins a login by a password, by the methods that the tunnel has, or by those of a source that
// carries it on itself.
func (p *People) Begin(call login.Call) login.Conversation {
	return p.Converse(call, p.logins(call.Tunnel), func(ctx context.Context) ([]tls.Certificate, error) {
		return p.Ways.Certificates(ctx, call.Tunnel)
	})
}

// Converse begins a login by EAP, by some ways; shown gives the certificates by which the service proves itself inside, and is only asked
// where one of them wants that.
func (p *People) Converse(call login.Call, ways []string, shown func(context.Context) ([]tls.Certificate, error)) login.Conversation {
	x := &conversation{people: p, call: call}
	var methods []eap.Method
	var certificates []tls.Certificate
	password := false
	for _, way := range ways {
		if (way == plan.LoginTTLS || way == plan.LoginEAPTLS) && certificates == nil {
			ctx, stop := context.WithTimeout(context.Background(), judgeTime)
			var err error
			certificates, err = shown(ctx)
			stop()
			if err != nil {
				return failed{reason.Of(reason.EAPTLSFailed, reason.With{reason.Error: err.Error()})}
			}
		}
		switch way {
		case plan.LoginMSCHAPv2:
			methods, password = append(methods, eap.ByMSCHAPv2(rand.Reader, call.Server, x.check)), true
		case plan.LoginTTLS:
			methods, password = append(methods, eaptls.TTLS(certificates, eaptls.Inner{
				Check: x.check, Password: x.password,
				Code: x.code, Next: x.next,
			})), true
		case plan.LoginEAPTLS:
			methods = append(methods, eaptls.TLS(certificates, x.owner))
		case plan.LoginRelayed:
			x.relays = true
		}
	}
	x.own = len(methods) > 0
	if !password { // identities that are lent for trials have passwords alone
		methods = append(methods, eap.ByMSCHAPv2(rand.Reader, call.Server, x.checkLent))
	}
	x.Conversation = eap.Converse(methods...)
	return x
}

// Challenge judges an answer to a challenge that somebody else asked for, and gives the outcome with it.
func (p *People) Challenge(ctx context.Context, c eap.Check, call login.Call) (eap.Verdict, login.Outcome) {
	c.User = eap.WithoutDomain(c.User)
	v, o := p.Judge(ctx, c, call)
	switch {
	case !v.OK:
		o = login.Outcome{User: c.User, Known: v.Known, Why: v.Refusal}
	case !o.OK:
		o = p.outcome(ctx, c.User)
	}
	o.Key = v.MSK
	return v, o
}

// byEAP are the ways that are conversations.
var byEAP = []string{plan.LoginTTLS, plan.LoginMSCHAPv2, plan.LoginRelayed, plan.LoginEAPTLS}

// logins are how people log in by a tunnel: where nothing is known of it, and where a key comes first (RFC 4739), by EAP-MSCHAPv2.
func (p *People) logins(tunnel string) (out []string) {
	if p.Ways != nil {
		for _, way := range p.Ways.Logins(tunnel) {
			if slices.Contains(byEAP, way) {
				out = append(out, way)
			}
		}
	}
	if len(out) == 0 {
		return []string{plan.LoginMSCHAPv2}
	}
	return out
}

// failed is a login that cannot begin.
type failed struct{ why reason.Reason }

// Next implements login.Conversation.
func (f failed) Next([]byte) login.Step { return login.Refused(f.why) }

// End implements login.Conversation.
func (f failed) End() {}

// conversation adds to a login what is known of the person.
type conversation struct {
	people *People
	call   login.Call
	came   login.Outcome // of somebody whom a source vouches for, or of a password that was handed over
	own    bool          // the tunnel has methods of the service's own
	relays bool          // it has those of a source's
	relay  source.Relay  // that carries it on; nil: nobody does
	by     source.Source
	who    string // the device claims to be
	unfit  reason.Reason
	typed  string // the password that was handed over, while another one is asked for
	login.Conversation
}

// check judges an answer to a challenge.
func (c *conversation) check(k eap.Check) (v eap.Verdict) {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	v, c.came = c.people.Judge(ctx, k, c.call)
	return v
}

// checkLent judges an answer to a challenge of who is lent for a trial, where nobody else logs in so.
func (c *conversation) checkLent(k eap.Check) eap.Verdict {
	if !IsTester(k.User) {
		return eap.Verdict{Refusal: reason.Of(reason.UnknownUser, nil)}
	}
	return c.check(k)
}

// password judges one that was handed over.
func (c *conversation) password(user, password string) login.Outcome {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	c.came = c.people.Password(ctx, user, password, c.call)
	if c.came.Why.Code == reason.PasswordToChange {
		c.typed = password
	}
	return c.came
}

// next takes a password that was chosen in place of one that counts only for that.
func (c *conversation) next(password string) login.Outcome {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	o := c.people.Choose(ctx, c.came, c.typed, password, c.call)
	if o.Why.Code == reason.PasswordUnfit { // they may choose once more
		c.unfit = o.Why
		return o
	}
	c.came, c.typed, c.unfit = o, "", reason.Reason{}
	return o
}

// code judges the code that was asked for after a password.
func (c *conversation) code(code string) login.Outcome {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	if o := c.people.Code(ctx, login.Code{User: c.came.User, Code: code, From: c.call.From}); !o.OK {
		c.came = o
	} else {
		c.came.Coded, c.came.Asks = true, false
	}
	return c.came
}

// owner tells whose certificate was shown.
func (c *conversation) owner(chain [][]byte, public []byte) login.Outcome {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	c.came = c.people.Owner(ctx, login.Key{Tunnel: c.call.Tunnel, Public: public, Chain: chain})
	c.came.Public = public
	return c.came
}

// Next takes the login a step further.
func (c *conversation) Next(message []byte) login.Step {
	if c.relays && c.relay == nil {
		if identity, ok := eap.Identity(message); ok {
			c.choose(identity)
		}
	}
	if c.relay != nil {
		return c.carry(message)
	}
	step := c.Conversation.Next(message)
	if !step.Over || !step.OK {
		if step.Over && c.typed != "" { // asked for another password the device gave up
			step.User, step.Known, step.Why = c.came.User, true, c.came.Why
			if !c.unfit.None() {
				step.Why = c.unfit
			}
		}
		if step.Over && step.Why.Code == reason.EAPOtherType && c.call.Tunnel != "" {
			step.Why = step.Why.And(reason.With{reason.Tunnel: c.call.Tunnel})
		}
		step.Later = step.Over && Undecided(step.Why) // nobody is told that their password is wrong for that
		return step
	}
	if c.came.OK {
		c.came.Key = step.Key
		step.Outcome = c.came
		return step
	}
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	o := c.people.outcome(ctx, step.User)
	if !o.OK {
		return login.Step{Claimed: step.Claimed, Over: true, Outcome: o} // in place of the method's own word that it went well
	}
	step.Source, step.Groups, step.Limits, step.Stamp, step.Coded = o.Source, o.Groups, o.Limits, o.Stamp, o.Coded
	return step
}

// outcome is that of somebody of the service's own who proved themselves.
func (p *People) outcome(ctx context.Context, name string) login.Outcome {
	now, err := p.Standing(ctx, name)
	if err != nil {
		return login.Outcome{User: name, Known: true, Why: reason.Of(reason.GroupsUnknown, nil)}
	}
	o := login.Outcome{OK: true, User: name, Known: true, Source: Source, Groups: now.Groups, Limits: now.Limits}
	o.Coded = IsTester(name)        // a trial is of what people reach with their second factor
	o.Stamp, _ = p.stamp(ctx, name) // without one they log in anew each time
	return o
}
