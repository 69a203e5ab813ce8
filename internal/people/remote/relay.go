package remote

import (
	"context"
	"errors"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/radius"
)

const (
	mostRounds  = 60   // of one conversation
	mostMessage = 3800 // octets of a device's message: a packet of RADIUS has 4,096
	framed      = 1344 // octets of one that fit well (RFC 3579 §2.4)
)

// relay is one conversation: all of it goes to the server that answered first.
type relay struct {
	a        asking
	call     login.Call
	identity string
	state    []byte // what the server wants to be told next (RFC 2865 §5.24)
	rounds   int
}

// Relay implements source.Relayed.
func (r *Server) Relay(c login.Call) source.Relay { return &relay{a: asking{r: r}, call: c} }

// Next implements source.Relay (RFC 3579 §2).
func (x *relay) Next(ctx context.Context, message []byte) (out source.Answer, err error) {
	r := x.a.r
	defer func() { r.Settled(err) }()
	if identity, ok := eap.Identity(message); ok && x.identity == "" {
		x.identity = identity
	}
	if err := source.CheckUser(x.identity); err != nil {
		return out, err
	}
	if x.rounds++; x.rounds > mostRounds || len(message) > mostMessage {
		return out, source.Fail(source.Refused, "the conversation is longer than any login is")
	}
	ctx, stop := context.WithTimeout(ctx, r.s.Patience())
	defer stop()
	x.a.ctx = ctx
	p := r.request(x.identity, x.call.From)
	err = errors.Join(rfc2869.EAPMessage_Set(p, message), rfc2865.FramedMTU_Set(p, framed))
	if x.call.Server != "" {
		err = errors.Join(err, rfc2865.CalledStationID_SetString(p, x.call.Server))
	}
	if x.state != nil {
		err = errors.Join(err, rfc2865.State_Set(p, x.state))
	}
	if err != nil {
		return out, source.Fail(source.Mistaken, "%v", err)
	}
	answer, err := x.a.ask(r.s.Servers, p, nil)
	if err != nil {
		return out, err
	}
	out.Send, _ = rfc2869.EAPMessage_Lookup(answer)
	err = x.answered(&out, answer, p)
	return out, err
}

func (x *relay) answered(out *source.Answer, answer, request *radius.Packet) (err error) {
	switch {
	case answer.Code == wire.CodeAccessReject:
		return refusal(answer)
	case len(out.Send) < 4:
		return source.Fail(source.Mistaken, "the server answers without EAP: have it carry on EAP with this client")
	case answer.Code == wire.CodeAccessChallenge:
		x.state, _ = rfc2865.State_Lookup(answer)
		return nil
	case answer.Code != wire.CodeAccessAccept:
		return source.Fail(source.Away, "the server answers with %s", answer.Code)
	}
	out.Over = true
	if out.Key, err = key(answer, request); err != nil {
		return source.Fail(source.Mistaken, "%v: have it send MS-MPPE keys", err)
	}
	out.Person, err = x.a.accepted(answer, x.identity)
	return err
}
