package remote

import (
	"context"
	"errors"
	"net/netip"
	"time"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/rfc6911"

	"yellowlantern/internal/people/source"
	"yellowlantern/internal/radius"
)

// Session is one as a server is told of it (RFC 2866).
type Session struct {
	ID        string
	User      string
	From      netip.Addr
	Addresses []netip.Addr
	Class     [][]byte // what the server wanted to be told again
	At        time.Time
	Lasted    time.Duration
	InBytes   uint64 // from the person
	OutBytes  uint64
	InPackets uint64
	Packets   uint64 // to the person
}

// Event is what is told of a session.
type Event struct {
	Session
	Status rfc2866.AcctStatusType
	Cause  rfc2866.AcctTerminateCause // of an end
}

// Accounts tells whether servers want to be told of sessions.
func (r *Server) Accounts() bool { return len(r.own.Accounting) > 0 }

// Interim is how often they want to be told how a session goes on.
func (r *Server) Interim() time.Duration { return r.own.Every() }

// Account tells a server of a session. It returns once one has confirmed it.
func (r *Server) Account(ctx context.Context, e Event) error {
	ctx, stop := context.WithTimeout(ctx, r.s.Patience())
	defer stop()
	p := wire.New(wire.CodeAccountingRequest, nil)
	for _, err := range []error{
		rfc2866.AcctStatusType_Set(p, e.Status),
		rfc2866.AcctSessionID_SetString(p, e.ID),
		rfc2865.UserName_SetString(p, e.User),
		rfc2865.NASIdentifier_SetString(p, r.own.Name()),
		rfc2865.NASPortType_Set(p, rfc2865.NASPortType_Value_Virtual),
		rfc2866.AcctAuthentic_Set(p, rfc2866.AcctAuthentic_Value_RADIUS),
		rfc2869.EventTimestamp_Set(p, e.At),
		rfc2866.AcctDelayTime_Set(p, rfc2866.AcctDelayTime(max(0, time.Since(e.At).Seconds()))),
	} {
		if err != nil {
			return err
		}
	}
	for _, c := range e.Class {
		if err := rfc2865.Class_Add(p, c); err != nil {
			return err
		}
	}
	if err := e.where(p); err != nil {
		return err
	}
	if e.Status != rfc2866.AcctStatusType_Value_Start {
		if err := e.counted(p); err != nil {
			return err
		}
	}
	a := &asking{r: r, ctx: ctx}
	answer, err := a.ask(r.own.Accounting, p, nil)
	switch {
	case err != nil:
		return err
	case answer.Code != wire.CodeAccountingResponse:
		return source.Fail(source.Away, "the server answers with %s", answer.Code)
	}
	return nil
}

func (e Event) where(p *radius.Packet) error {
	var err error
	if e.From.IsValid() {
		err = rfc2865.CallingStationID_SetString(p, e.From.String())
	}
	four, six := false, false // each once: the attributes stand for one address
	for _, a := range e.Addresses {
		switch {
		case a.Is4() && !four:
			four, err = true, errors.Join(err, rfc2865.FramedIPAddress_Set(p, a.AsSlice()))
		case a.Is6() && !six:
			six, err = true, errors.Join(err, rfc6911.FramedIPv6Address_Set(p, a.AsSlice()))
		}
	}
	return err
}

// counted writes what went to and fro: octets above 32 bits apart (RFC 2869 §5.1).
func (e Event) counted(p *radius.Packet) error {
	err := errors.Join(
		rfc2866.AcctSessionTime_Set(p, rfc2866.AcctSessionTime(e.Lasted.Seconds())),
		rfc2866.AcctInputOctets_Set(p, rfc2866.AcctInputOctets(uint32(e.InBytes))),
		rfc2866.AcctOutputOctets_Set(p, rfc2866.AcctOutputOctets(uint32(e.OutBytes))),
		rfc2869.AcctInputGigawords_Set(p, rfc2869.AcctInputGigawords(e.InBytes>>32)),
		rfc2869.AcctOutputGigawords_Set(p, rfc2869.AcctOutputGigawords(e.OutBytes>>32)),
		rfc2866.AcctInputPackets_Set(p, rfc2866.AcctInputPackets(uint32(e.InPackets))),
		rfc2866.AcctOutputPackets_Set(p, rfc2866.AcctOutputPackets(uint32(e.Packets))),
	)
	if e.Status == rfc2866.AcctStatusType_Value_Stop {
		err = errors.Join(err, rfc2866.AcctTerminateCause_Set(p, e.Cause))
	}
	return err
}
