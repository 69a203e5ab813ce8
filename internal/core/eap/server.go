package eap

import (
	"bytes"
	"fmt"
	"io"

	"yellowlantern/internal/core/reason"
)

// Step is what the server wants next; exactly one of the fields is of use.
type Step struct {
	Send    []byte // EAP packet for the peer
	Check   *Check // to be judged, then handed to Judged
	Done    bool   // over; Send holds the closing packet
	OK      bool   // with Done: logged in as User with MSK
	User    string
	MSK     []byte
	Refusal reason.Reason // with Done and not OK: why, for the journal
	Known   bool          // with Done: User exists
}

type serverState int

const (
	awaitIdentity serverState = iota
	awaitResponse
	awaitVerdict
	awaitSuccess
	awaitFailure
	over
)

// Server is the authenticator's side of one login by EAP-MSCHAPv2.
type Server struct {
	name    string
	rand    io.Reader
	state   serverState
	id      byte
	check   Check
	verdict Verdict
	// Identity is what the peer claimed to be. Nothing may be decided by it.
	Identity string
}

// NewServer begins a login; name is what the server calls itself.
func NewServer(rand io.Reader, name string) *Server {
	return &Server{name: name, rand: rand}
}

// Begin asks for the identity. The IKE identity will not do: some systems put an address there.
func (s *Server) Begin() []byte {
	s.id = 1
	return packet{code: codeRequest, id: s.id, kind: typeIdentity}.marshal()
}

// Respond takes the peer's packet. A packet out of place ends the login.
func (s *Server) Respond(b []byte) Step {
	p, err := parse(b)
	switch {
	case err != nil || p.code != codeResponse:
		return s.fail(reason.Of(reason.EAPMalformed, nil))
	case p.id != s.id:
		return s.fail(reason.Of(reason.EAPNotAsked, nil))
	case p.kind == typeNak:
		return s.fail(reason.Of(reason.EAPOtherType, reason.With{reason.EAP: fmt.Sprintf("%.8v", p.data)}))
	}
	switch s.state {
	case awaitIdentity:
		if p.kind != typeIdentity {
			return s.fail(reason.Of(reason.EAPNoIdentity, nil))
		}
		s.Identity = string(p.data)
		return s.challenge()
	case awaitResponse:
		return s.response(p)
	case awaitSuccess:
		if p.kind != typeMSCHAPv2 || len(p.data) < 1 || p.data[0] != opSuccess {
			return s.fail(reason.Of(reason.EAPGatewayRejected, nil))
		}
		s.state = over
		return Step{Done: true, OK: true, User: s.check.User, MSK: s.verdict.MSK, Send: packet{code: codeSuccess, id: s.id}.marshal()}
	case awaitFailure:
		return s.fail(s.verdict.Refusal)
	}
	return s.fail(reason.Of(reason.EAPOutOfTurn, nil))
}

func (s *Server) challenge() Step {
	if _, err := io.ReadFull(s.rand, s.check.Challenge[:]); err != nil {
		return s.fail(reason.Of(reason.EAPNoRandomness, nil))
	}
	s.state = awaitResponse
	s.id++
	body := append([]byte{16}, s.check.Challenge[:]...)
	body = append(body, s.name...)
	return Step{Send: packet{codeRequest, s.id, typeMSCHAPv2, mschapMessage(opChallenge, s.id, body)}.marshal()}
}

func (s *Server) response(p packet) Step {
	// operation, identifier, length (2), value size, peer challenge (16), zeros (8), response (24), flags, name
	const fixed = 4 + 1 + 49
	if p.kind != typeMSCHAPv2 || len(p.data) < fixed || p.data[0] != opResponse || p.data[4] != 49 {
		return s.fail(reason.Of(reason.EAPBadResponse, nil))
	}
	value := p.data[5:]
	copy(s.check.Peer[:], value)
	copy(s.check.Response[:], value[24:])
	s.check.User = withoutDomain(string(bytes.TrimRight(p.data[fixed:], "\x00")))
	if s.check.User == "" || len(s.check.User) > 255 {
		return s.fail(reason.Of(reason.EAPNoName, nil))
	}
	s.state = awaitVerdict
	check := s.check
	return Step{Check: &check}
}

// Judged takes the answer to a Check.
func (s *Server) Judged(v Verdict) Step {
	if s.state != awaitVerdict {
		return s.fail(reason.Of(reason.EAPOutOfTurn, nil))
	}
	s.verdict = v
	ms := s.id
	s.id++
	op, text := byte(opSuccess), append([]byte(v.Proof), " M=OK"...)
	s.state = awaitSuccess
	if !v.OK {
		op, text = opFailure, failureText(s.check.Challenge)
		s.state = awaitFailure
	}
	return Step{Send: packet{codeRequest, s.id, typeMSCHAPv2, mschapMessage(op, ms, text)}.marshal()}
}

func (s *Server) fail(why reason.Reason) Step {
	s.state = over
	return Step{Done: true, Refusal: why, User: s.check.User, Known: s.verdict.Known, Send: packet{code: codeFailure, id: s.id}.marshal()}
}
