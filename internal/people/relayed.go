package people

import (
	"context"
	"errors"
	"net/netip"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// choose decides by whom a login is carried on. Nothing else is decided by what the device claims to be: who claims to be one of the
// service's own must prove it here, and who claims to be another must prove it there.
func (c *conversation) choose(identity string) {
	c.relays = false // it is decided
	p, name := c.people, eap.WithoutDomain(identity)
	if p.testers.find(name) != nil || p.Sources == nil {
		return
	}
	if c.own {
		ctx, stop := context.WithTimeout(context.Background(), judgeTime)
		defer stop()
		if _, err := p.keeper.User(ctx, name); !errors.Is(err, store.ErrNotFound) {
			return
		}
	}
	for _, s := range p.Sources.Sources() {
		if by, can := s.(source.Relayed); can {
			c.by, c.relay, c.who = s, by.Relay(c.call), identity
			return
		}
	}
}

// carry carries a message to the source, and its answer back.
func (c *conversation) carry(message []byte) login.Step {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	p, name := c.people, eap.WithoutDomain(c.who)
	// Guesses are counted by what the device claims to be, for there is nothing else before it is over.
	if p.Guesses.Waits(name, c.guesses()) > 0 {
		return login.Step{
			Claimed: c.who, Over: true, Send: eap.Failure(message),
			Outcome: login.Outcome{User: name, Why: reason.Of(reason.GuessWaits, nil)},
		}
	}
	answer, err := c.relay.Next(ctx, message)
	step := login.Step{Send: answer.Send, Claimed: c.who, Over: answer.Over || err != nil}
	switch {
	case err != nil:
		step.User, step.Why = name, whyNot(c.by.Settings().Name, err)
		step.Later = Undecided(step.Why)
		if source.KindOf(err) == source.Refused {
			p.Guesses.Judged(name, c.guesses(), WrongGuess)
		}
	case answer.Over:
		p.Guesses.Judged(name, c.guesses(), RightGuess)
		step.Outcome = p.came(ctx, c.by, answer.Person, "")
		step.Key = answer.Key
	}
	if step.Over && (!step.OK || step.Send == nil) {
		step.Send = eap.Failure(message)
	}
	return step
}

// guesses are counted by the device, where it is known which one it is.
func (c *conversation) guesses() netip.Addr {
	if c.call.Station != "" {
		return Station(c.call.Station)
	}
	return c.call.From
}
