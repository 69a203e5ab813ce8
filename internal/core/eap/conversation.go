package eap

import (
	"fmt"
	"slices"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// Method is the server's side of one method, for one login. Its calls may take long.
type Method interface {
	// Type is its number (RFC 3748 §5).
	Type() byte
	// Begin gives the data of its first request.
	Begin() ([]byte, error)
	// Respond takes the data of an answer to its request before.
	Respond(data []byte) Turn
}

// Ender is a method that holds something until its login ends.
type Ender interface{ End() }

// Turn is what a method does next: it asks on, or is over.
type Turn struct {
	Send          []byte // data of the next request
	Over          bool
	login.Outcome // with Over
}

// Refused ends a method.
func Refused(why reason.Reason) Turn { return Turn{Over: true, Outcome: login.Outcome{Why: why}} }

// Converse begins a login by the first of some methods that the device takes.
func Converse(methods ...Method) login.Conversation { return &conversation{methods: methods, at: -1} }

type conversation struct {
	methods  []Method
	at       int  // which is under way; -1: none
	answered bool // it was taken up
	id       byte
	over     bool
	identity string // what the device claims to be; nothing may be decided by it
}

// Next implements login.Conversation. A packet out of place ends the login.
func (c *conversation) Next(message []byte) login.Step {
	if message == nil && c.id == 0 {
		// The IKE identity will not do: some systems put an address there.
		return c.ask(TypeIdentity, nil)
	}
	p, err := parse(message)
	if c.id == 0 { // whoever carries it here asked already who it is: its numbers go on
		c.id = p.id
	}
	switch {
	case c.over:
		return c.refused(reason.Of(reason.EAPOutOfTurn, nil))
	case err != nil || p.code != codeResponse:
		return c.refused(reason.Of(reason.EAPMalformed, nil))
	case p.id != c.id:
		return c.refused(reason.Of(reason.EAPNotAsked, nil))
	case c.at < 0 && p.kind == TypeIdentity:
		c.identity = string(p.data)
		return c.propose(0)
	case c.at < 0:
		return c.refused(reason.Of(reason.EAPNoIdentity, nil))
	case p.kind == TypeNak && !c.answered:
		// The device asks for other methods (RFC 3748 §5.3.1).
		for i, m := range c.methods {
			if i > c.at && slices.Contains(p.data, m.Type()) {
				return c.propose(i)
			}
		}
		fallthrough
	case p.kind == TypeNak:
		return c.refused(reason.Of(reason.EAPOtherType, reason.With{reason.EAP: named(p.data), reason.What: c.offered()}))
	case p.kind != c.methods[c.at].Type():
		return c.refused(reason.Of(reason.EAPNotAsked, nil))
	}
	c.answered = true
	turn := c.methods[c.at].Respond(p.data)
	switch {
	case !turn.Over:
		return c.ask(c.methods[c.at].Type(), turn.Send)
	case !turn.OK:
		return c.end(codeFailure, turn.Outcome)
	}
	return c.end(codeSuccess, turn.Outcome)
}

// End implements login.Conversation.
func (c *conversation) End() {
	c.over = true
	for _, m := range c.methods {
		if e, ok := m.(Ender); ok {
			e.End()
		}
	}
}

func (c *conversation) propose(i int) login.Step {
	c.at = i
	if i >= len(c.methods) {
		return c.refused(reason.Of(reason.EAPOutOfTurn, nil))
	}
	data, err := c.methods[i].Begin()
	if err != nil {
		return c.refused(reason.Of(reason.EAPNoRandomness, nil))
	}
	return c.ask(c.methods[i].Type(), data)
}

func (c *conversation) ask(kind byte, data []byte) login.Step {
	c.id++
	return login.Step{Send: packet{codeRequest, c.id, kind, data}.marshal(), Claimed: c.identity}
}

func (c *conversation) refused(why reason.Reason) login.Step {
	return c.end(codeFailure, login.Outcome{Why: why})
}

func (c *conversation) end(code byte, o login.Outcome) login.Step {
	c.over = true
	if about := o.Why.Code; (about == reason.EAPBadResponse || about == reason.EAPTLSFailed) && o.Why.With[reason.EAP] == "" && c.at >= 0 {
		o.Why = o.Why.And(reason.With{reason.EAP: named([]byte{c.methods[c.at].Type()})})
	}
	return login.Step{Send: packet{code: code, id: c.id}.marshal(), Claimed: c.identity, Over: true, Outcome: o}
}

// offered are the methods of this login in words.
func (c *conversation) offered() string {
	var types []byte
	for _, m := range c.methods {
		types = append(types, m.Type())
	}
	return named(types)
}

// methodNames are those of IANA's registry that devices ask for.
var methodNames = map[byte]string{
	4: "EAP-MD5", 5: "EAP-OTP", 6: "EAP-GTC", 13: "EAP-TLS", 21: "EAP-TTLS", 25: "PEAP", 26: "EAP-MSCHAPv2", 43: "EAP-FAST", 52: "EAP-PWD", 55: "TEAP",
}

// named writes types as people read them.
func named(types []byte) string {
	out := ""
	for i, t := range types[:min(len(types), 8)] {
		if i > 0 {
			out += ", "
		}
		if name, ok := methodNames[t]; ok {
			out += name
		} else {
			out += fmt.Sprintf("type %d", t)
		}
	}
	return out
}
