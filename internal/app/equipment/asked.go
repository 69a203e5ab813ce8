package equipment

import (
	"context"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2868"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/vendors/microsoft"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people"
	"yellowlantern/internal/radius"
)

const mostGroups = 32 // that equipment is told: a packet has 4,096 octets

// judge judges what equipment asks.
func (s *Service) judge(l *listener, c radius.Client, p *radius.Packet, from netip.Addr) radius.Reply {
	e := l.named(c.Name)
	if e == nil {
		return radius.Reply{}
	}
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	message, byEAP := rfc2869.EAPMessage_Lookup(p)
	switch {
	case byEAP == nil:
		return s.converse(l, e, p, message, from)
	case len(microsoft.MSCHAP2Response_Get(p)) == 50 && len(microsoft.MSCHAPChallenge_Get(p)) == 16:
		return s.challenged(ctx, l, e, p, from)
	case rfc2865.UserPassword_Get(p) != nil:
		return s.handedOver(ctx, l, e, p, from)
	}
	return s.settled(l, e, p, login.Outcome{Why: reason.Of(reason.EquipmentWay, nil)}, nil)
}

// wayNot is the outcome of a way that the plan does not let equipment have.
func wayNot(e *plan.Equipment, way string, user string) (login.Outcome, bool) {
	if slices.Contains(e.Ways(), way) {
		return login.Outcome{}, false
	}
	return login.Outcome{User: user, Why: reason.Of(reason.EquipmentWay, nil)}, true
}

func (s *Service) handedOver(ctx context.Context, l *listener, e *plan.Equipment, p *radius.Packet, from netip.Addr) radius.Reply {
	user, secret := rfc2865.UserName_GetString(p), rfc2865.UserPassword_GetString(p)
	if state, ok := rfc2865.State_Lookup(p); ok == nil { // the answer to a question for a code
		c := l.conversations.find(e.Name, string(state), time.Now())
		if c == nil {
			return radius.Reply{} // it is over, or was given up: whoever asks begins again, or asks another server
		}
		step, ok := c.next([]byte(secret))
		if !ok { // one state, one code
			return radius.Reply{}
		}
		l.conversations.end(e.Name, string(state))
		return s.settled(l, e, p, step.Outcome, nil)
	}
	o, not := wayNot(e, plan.AskPassword, user)
	if !not {
		o = s.People.Password(ctx, user, secret, call(e, p, from))
	}
	if o.OK && e.Factor && o.Asks && s.allowed(l, e, o, time.Now()).None() {
		_, id := l.conversations.begin(e.Name, station(p), &coding{s.People, o, from}, time.Now())
		return radius.Reply{Code: wire.CodeAccessChallenge, Fill: func(a *radius.Packet) error {
			if err := rfc2865.ReplyMessage_SetString(a, "Code: "); err != nil {
				return err
			}
			return rfc2865.State_Set(a, []byte(id))
		}}
	}
	return s.settled(l, e, p, o, nil)
}

// longestStation bounds what equipment calls a device.
const longestStation = 64

// station is which device it is, as equipment calls it; empty: it does not say.
func station(p *radius.Packet) string {
	id := rfc2865.CallingStationID_GetString(p)
	return id[:min(len(id), longestStation)]
}

// call is how somebody calls by equipment.
func call(e *plan.Equipment, p *radius.Packet, from netip.Addr) login.Call {
	return login.Call{From: from, Station: station(p), Server: e.Name, Coded: e.Factor}
}

// coding is somebody whose password was right, and who is asked for a code.
type coding struct {
	people *people.People
	came   login.Outcome
	from   netip.Addr
}

// Next implements login.Conversation: the message is the code.
func (c *coding) Next(code []byte) login.Step {
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	if o := c.people.Code(ctx, login.Code{User: c.came.User, Code: string(code), From: c.from}); !o.OK {
		return login.Step{Over: true, Outcome: o}
	}
	c.came.Coded, c.came.Asks = true, false
	return login.Step{Over: true, Outcome: c.came}
}

// End implements login.Conversation.
func (c *coding) End() {}

// uncoded tells why somebody does not get in who gave no code of a second factor; an error is that nobody knows whether they have one.
func (s *Service) uncoded(e *plan.Equipment, o login.Outcome) (reason.Reason, error) {
	if !e.Factor || o.Coded {
		return reason.Reason{}, nil
	}
	ctx, stop := context.WithTimeout(context.Background(), judgeTime)
	defer stop()
	has, err := s.People.HasFactor(ctx, o.User)
	switch {
	case err != nil || !has && e.Optional:
		return reason.Reason{}, err
	case !has:
		return reason.Of(reason.EquipmentNoFactor, nil), nil
	}
	return reason.Of(reason.EquipmentNoCode, nil), nil
}

// challenged judges an answer to a challenge of the equipment's (RFC 2548 §2.3).
func (s *Service) challenged(ctx context.Context, l *listener, e *plan.Equipment, p *radius.Packet, from netip.Addr) radius.Reply {
	user, response := rfc2865.UserName_GetString(p), microsoft.MSCHAP2Response_Get(p)
	o, not := wayNot(e, plan.AskMSCHAPv2, user)
	var v eap.Verdict
	if !not {
		v, o = s.People.Challenge(ctx, eap.Check{
			User: user, Challenge: [16]byte(microsoft.MSCHAPChallenge_Get(p)), Peer: [16]byte(response[2:]), Response: [24]byte(response[26:]),
		}, call(e, p, from))
	}
	return s.settled(l, e, p, o, func(a *radius.Packet, admitted bool) error {
		if !admitted {
			return microsoft.MSCHAPError_Set(a,
				append([]byte{response[0]},
					"E=691 R=0 C=00000000000000000000000000000000 V=3 M=Login failed"...))
		}
		return microsoft.MSCHAP2Success_Set(a, append([]byte{response[0]}, v.Proof...))
	})
}

// converse carries a login by EAP on (RFC 3579).
func (s *Service) converse(l *listener, e *plan.Equipment, p *radius.Packet, message []byte, from netip.Addr) radius.Reply {
	state, _ := rfc2865.State_Lookup(p)
	id := string(state)
	c := l.conversations.find(e.Name, id, time.Now())
	if c == nil && len(state) == 0 {
		var ways []string
		for _, way := range e.Ways() {
			if way != plan.AskPassword && way != plan.AskMSCHAPv2 {
				ways = append(ways, way)
			}
		}
		if len(ways) == 0 {
			return s.settled(l, e, p, login.Outcome{User: rfc2865.UserName_GetString(p), Why: reason.Of(reason.EquipmentWay, nil)}, nil)
		}
		c, id = l.conversations.begin(e.Name, station(p), s.People.Converse(call(e, p, from), ways, s.certificate(e)), time.Now())
	}
	if c == nil { // it was given up: whoever asks begins again, or asks another server
		return radius.Reply{}
	}
	step, ok := c.next(message)
	if !ok {
		return radius.Reply{}
	}
	if !step.Over {
		return radius.Reply{Code: wire.CodeAccessChallenge, Fill: func(a *radius.Packet) error {
			if err := rfc2865.State_Set(a, []byte(id)); err != nil {
				return err
			}
			return rfc2869.EAPMessage_Set(a, step.Send)
		}}
	}
	l.conversations.end(e.Name, id)
	if step.Later {
		return radius.Reply{}
	}
	if step.User == "" {
		step.User = step.Claimed
	}
	return s.settled(l, e, p, step.Outcome, func(a *radius.Packet, admitted bool) error {
		if !admitted {
			return closing(message)(a)
		}
		return rfc2869.EAPMessage_Set(a, step.Send)
	})
}

func closing(message []byte) func(*radius.Packet) error {
	return func(a *radius.Packet) error { return rfc2869.EAPMessage_Set(a, eap.Failure(message)) }
}

// settled is the answer to an outcome; more adds what its way of logging in wants.
func (s *Service) settled(l *listener, e *plan.Equipment, p *radius.Packet, o login.Outcome,
	more func(a *radius.Packet,
		admitted bool) error,
) radius.Reply {
	if !o.OK && people.Undecided(o.Why) { // another server may know
		return radius.Reply{}
	}
	if o.OK {
		if people.IsTester(o.User) { // who is lent for trials of tunnels
			o.OK, o.Why = false, reason.Of(reason.UnknownUser, nil)
		} else if why := s.allowed(l, e, o, time.Now()); !why.None() {
			o.OK, o.Why = false, why
		} else if why, err := s.uncoded(e, o); err != nil {
			return radius.Reply{}
		} else if !why.None() {
			o.OK, o.Why = false, why
		}
	}
	code := wire.CodeAccessAccept
	if o.OK {
		s.Journal.Tell(reason.Of(reason.EquipmentAdmits,
			reason.With{
				reason.Equipment: e.Name,
				reason.Groups:    strings.Join(o.Groups, " + "),
			}), o.User)
	} else {
		code = wire.CodeAccessReject
		s.refuse(e, o)
	}
	return radius.Reply{Code: code, Fill: func(a *radius.Packet) error {
		if o.OK {
			if err := given(a, e, o); err != nil {
				return err
			}
		}
		if more != nil {
			return more(a, o.OK)
		}
		return nil
	}}
}

// given writes what equipment is told to do with somebody.
func given(a *radius.Packet, e *plan.Equipment, o login.Outcome) error {
	if err := rfc2865.UserName_SetString(a, o.User); err != nil { // who they really are
		return err
	}
	for _, g := range o.Groups[:min(len(o.Groups), mostGroups)] {
		if err := rfc2865.FilterID_AddString(a, g); err != nil {
			return err
		}
	}
	if until := o.Limits.Until; !until.IsZero() {
		if err := rfc2865.SessionTimeout_Set(a, rfc2865.SessionTimeout(max(1, time.Until(until).Seconds()))); err != nil {
			return err
		}
	}
	if len(o.Key) == 64 {
		if err := microsoft.MSMPPERecvKey_Set(a, o.Key[:32]); err != nil {
			return err
		}
		if err := microsoft.MSMPPESendKey_Set(a, o.Key[32:]); err != nil {
			return err
		}
	}
	for _, x := range e.Gives {
		anybody := len(x.Groups) == 0 && len(x.Users) == 0
		if anybody || slices.Contains(x.Users,
			o.User) || slices.ContainsFunc(x.Groups,
			func(g string) bool { return slices.Contains(o.Groups, g) }) {
			return tell(a, x)
		}
	}
	return nil
}

// tell writes a VLAN (RFC 3580 §3.31) and an address.
func tell(a *radius.Packet, x plan.Given) error {
	if x.Address.Is4() {
		if err := rfc2865.FramedIPAddress_Set(a, x.Address.AsSlice()); err != nil {
			return err
		}
	}
	if x.VLAN == 0 {
		return nil
	}
	const vlan, ieee802 = 13, 6
	if err := rfc2868.TunnelType_Set(a, 0, vlan); err != nil {
		return err
	}
	if err := rfc2868.TunnelMediumType_Set(a, 0, ieee802); err != nil {
		return err
	}
	return rfc2868.TunnelPrivateGroupID_SetString(a, 0, strconv.Itoa(x.VLAN))
}
