package eap

import (
	"bytes"
	"io"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// ByMSCHAPv2 is the method EAP-MSCHAPv2. name is what the server calls itself; judge judges the person's answer, and may take long.
func ByMSCHAPv2(rand io.Reader, name string, judge func(Check) Verdict) Method {
	return &mschapv2{name: name, rand: rand, judge: judge}
}

type mschapState int

const (
	awaitResponse mschapState = iota
	awaitSuccess
	awaitFailure
)

type mschapv2 struct {
	name    string
	rand    io.Reader
	judge   func(Check) Verdict
	state   mschapState
	id      byte // of its own messages
	check   Check
	verdict Verdict
}

// Type implements Method.
func (*mschapv2) Type() byte { return typeMSCHAPv2 }

// Begin implements Method: it asks for an answer to a challenge.
func (s *mschapv2) Begin() ([]byte, error) {
	if _, err := io.ReadFull(s.rand, s.check.Challenge[:]); err != nil {
		return nil, err
	}
	s.id++
	body := append([]byte{16}, s.check.Challenge[:]...)
	return mschapMessage(opChallenge, s.id, append(body, s.name...)), nil
}

// Respond implements Method.
func (s *mschapv2) Respond(data []byte) Turn {
	op := byte(0)
	if len(data) > 0 {
		op = data[0]
	}
	switch {
	case s.state == awaitResponse:
		return s.response(data)
	case s.state == awaitSuccess && op != opSuccess:
		return s.over(reason.Of(reason.EAPGatewayRejected, nil))
	case s.state == awaitSuccess:
		return Turn{Over: true, Outcome: login.Outcome{OK: true, User: s.check.User, Known: true, Key: s.verdict.MSK}}
	case s.verdict.MustChange && op == opChange:
		return s.change(data)
	}
	return s.over(s.verdict.Refusal)
}

func (s *mschapv2) response(data []byte) Turn {
	// operation, identifier, length (2), value size, peer challenge (16), zeros (8), response (24), flags, name
	const fixed = 4 + 1 + 49
	if len(data) < fixed || data[0] != opResponse || data[4] != 49 {
		return s.over(reason.Of(reason.EAPBadResponse, nil))
	}
	value := data[5:]
	copy(s.check.Peer[:], value)
	copy(s.check.Response[:], value[24:])
	s.check.User = WithoutDomain(string(bytes.TrimRight(data[fixed:], "\x00")))
	if s.check.User == "" || len(s.check.User) > 255 {
		return s.over(reason.Of(reason.EAPNoName, nil))
	}
	return s.judged()
}

// change takes a new password. The login goes on with it, as the person whom the old one was right for.
func (s *mschapv2) change(data []byte) Turn {
	// operation, identifier, length (2), password, hash, peer challenge (16), zeros (8), response (24), flags (2)
	if len(data) != 4+blockLen+NTHashLen+16+8+24+2 {
		return s.over(reason.Of(reason.EAPBadResponse, nil))
	}
	b := data[4:]
	var c Change
	b = b[copy(c.Password[:], b):]
	b = b[copy(c.Hash[:], b):]
	copy(s.check.Peer[:], b)
	copy(s.check.Response[:], b[24:])
	s.check.Change = &c
	return s.judged()
}

// judged has an answer judged, and says so to the device.
func (s *mschapv2) judged() Turn {
	s.verdict = s.judge(s.check)
	if s.verdict.Later {
		return s.over(s.verdict.Refusal)
	}
	answered := s.id
	s.id++
	if s.verdict.OK {
		s.state = awaitSuccess
		return Turn{Send: mschapMessage(opSuccess, answered, append([]byte(s.verdict.Proof), " M=OK"...))}
	}
	if s.verdict.MustChange { // what is answered next is another question
		if _, err := io.ReadFull(s.rand, s.check.Challenge[:]); err != nil {
			return s.over(reason.Of(reason.EAPNoRandomness, nil))
		}
	}
	s.state = awaitFailure
	return Turn{Send: mschapMessage(opFailure, answered, s.verdict.failureText(s.check.Challenge))}
}

func (s *mschapv2) over(why reason.Reason) Turn {
	return Turn{Over: true, Outcome: login.Outcome{User: s.check.User, Known: s.verdict.Known, Why: why}}
}
