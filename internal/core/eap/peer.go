package eap

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Peer is the person's side of one login by EAP-MSCHAPv2.
type Peer struct {
	user     string
	hash     [NTHashLen]byte
	rand     io.Reader
	response [24]byte
	proof    string
	proven   bool
	refused  error
	// Next is the password to choose where the gateway wants another in place of this one; empty: the login ends there.
	Next string
	// Changed is that it was chosen.
	Changed bool
	// Others are further methods that the device takes, where the gateway proposes one.
	Others []PeerMethod
	by     PeerMethod // which of them is under way; nil: MS-CHAPv2
}

// PeerMethod is the device's side of another method, for one login.
type PeerMethod interface {
	Type() byte
	// Handle takes the data of a request, and gives that of the answer.
	Handle(data []byte) ([]byte, error)
	// MSK is the key that it leaves behind, 64 octets; nil: it has not come to its end.
	MSK() []byte
	// Changed is that another password was chosen in it.
	Changed() bool
	// Refused is why it gave up before the gateway did; nil: it did not.
	Refused() error
}

// Errors of the peer's side.
var (
	ErrRefused = errors.New("eap: the gateway refused the login")
	// ErrMustChange is that the password counts only to choose another with.
	ErrMustChange = fmt.Errorf("%w: another password must be chosen first", ErrRefused)
	ErrUnproven   = errors.New("eap: the gateway did not prove that it knows the password")
)

// NewPeer prepares a login.
func NewPeer(rand io.Reader, user, password string) *Peer {
	return &Peer{user: user, hash: NTHash(password), rand: rand}
}

// Handle takes the server's packet and gives the answer; done says that the login succeeded. A nil answer without
// error means that there is nothing to send.
func (p *Peer) Handle(b []byte) (answer []byte, done bool, err error) {
	in, err := parse(b)
	if err != nil {
		return nil, false, err
	}
	reply := func(kind byte, data []byte) ([]byte, bool, error) {
		return packet{codeResponse, in.id, kind, data}.marshal(), false, nil
	}
	switch {
	case in.code == codeSuccess:
		if p.by != nil && p.by.MSK() == nil || p.by == nil && !p.proven {
			return nil, false, ErrUnproven
		}
		p.Changed = p.Changed || p.by != nil && p.by.Changed()
		return nil, true, nil
	case in.code == codeFailure && p.by != nil && p.by.Refused() != nil:
		return nil, false, fmt.Errorf("%w: %w", ErrRefused, p.by.Refused())
	case in.code == codeFailure && p.refused != nil:
		return nil, false, p.refused
	case in.code == codeFailure:
		return nil, false, ErrRefused
	case in.code != codeRequest:
		return nil, false, ErrMalformed
	}
	switch in.kind {
	case TypeIdentity:
		return reply(TypeIdentity, []byte(p.user))
	case typeNotification:
		return reply(typeNotification, nil)
	case typeMSCHAPv2:
		p.by = nil
		return p.mschap(in, reply)
	}
	wants := []byte{typeMSCHAPv2}
	for _, m := range p.Others {
		if m.Type() == in.kind {
			p.by = m
			answer, err := m.Handle(in.data)
			if err != nil {
				return nil, false, err
			}
			return reply(in.kind, answer)
		}
		wants = append(wants, m.Type())
	}
	return reply(TypeNak, wants)
}

func (p *Peer) mschap(in packet, reply func(byte, []byte) ([]byte, bool, error)) ([]byte, bool, error) {
	if len(in.data) < 4 {
		return nil, false, ErrMalformed
	}
	body := in.data[4:]
	switch in.data[0] {
	case opChallenge:
		if len(body) < 17 || body[0] != 16 {
			return nil, false, ErrMalformed
		}
		var peer [16]byte
		if _, err := io.ReadFull(p.rand, peer[:]); err != nil {
			return nil, false, err
		}
		challenge := [16]byte(body[1:17])
		p.response = ntResponse(challenge, peer, p.user, p.hash)
		p.proof = authenticatorResponse(p.hash, p.response, challenge, peer, p.user)
		value := append([]byte{49}, peer[:]...)
		value = append(append(value, make([]byte, 8)...), p.response[:]...)
		value = append(append(value, 0), p.user...)
		return reply(typeMSCHAPv2, mschapMessage(opResponse, in.data[1], value))
	case opSuccess:
		if p.proof == "" || !strings.HasPrefix(string(body), p.proof) {
			return nil, false, ErrUnproven
		}
		p.proven = true
		return reply(typeMSCHAPv2, []byte{opSuccess})
	case opFailure:
		challenge, must := mustChange(string(body))
		if must && p.Next != "" && !p.Changed {
			return p.change(in, challenge, p.Next, reply)
		}
		if must {
			p.refused = ErrMustChange
			return reply(typeMSCHAPv2, []byte{opFailure})
		}
		p.refused = fmt.Errorf("%w: %s", ErrRefused, failureWords(string(body)))
		return reply(typeMSCHAPv2, []byte{opFailure})
	}
	return nil, false, ErrMalformed
}

// mustChange reads a failure that wants another password: its challenge is answered with that (RFC 2759 §6).
func mustChange(text string) (challenge [16]byte, ok bool) {
	_, rest, found := strings.Cut(text, " C=")
	if !strings.HasPrefix(text, "E=648 ") || !found || len(rest) < 32 {
		return challenge, false
	}
	_, err := hex.Decode(challenge[:], []byte(rest[:32]))
	return challenge, err == nil
}

// change sends another password, and answers with it.
func (p *Peer) change(in packet, challenge [16]byte, next string, reply func(byte, []byte) ([]byte, bool, error)) ([]byte, bool, error) {
	c, err := NewChange(p.rand, p.hash, next)
	if err != nil {
		return nil, false, err
	}
	var peer [16]byte
	if _, err := io.ReadFull(p.rand, peer[:]); err != nil {
		return nil, false, err
	}
	p.hash, p.Changed = NTHash(next), true
	p.response = ntResponse(challenge, peer, p.user, p.hash)
	p.proof = authenticatorResponse(p.hash, p.response, challenge, peer, p.user)
	value := append(append(c.Password[:], c.Hash[:]...), peer[:]...)
	value = append(append(value, make([]byte, 8)...), p.response[:]...)
	return reply(typeMSCHAPv2, mschapMessage(opChange, in.data[1]+1, append(value, 0, 0)))
}

// MSK is the key that the method leaves behind once it has succeeded, 64 octets.
func (p *Peer) MSK() []byte {
	if p.by != nil {
		return p.by.MSK()
	}
	return sessionKey(p.hash, p.response)
}

// failureWords explains a failure message (RFC 2759 §6) without its numbers.
func failureWords(text string) string {
	for code, words := range map[string]string{
		"E=646": "logging in is not permitted at this hour", "E=647": "the account is disabled",
		"E=709": "the new password will not do", "E=649": "no permission to log in", "E=691": "user or password is wrong, or the account is disabled or over",
	} {
		if strings.HasPrefix(text, code) {
			return words
		}
	}
	return "without a reason"
}
