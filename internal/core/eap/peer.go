package eap

import (
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
}

// Errors of the peer's side.
var (
	ErrRefused  = errors.New("eap: the gateway refused the login")
	ErrUnproven = errors.New("eap: the gateway did not prove that it knows the password")
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
		if !p.proven {
			return nil, false, ErrUnproven
		}
		return nil, true, nil
	case in.code == codeFailure && p.refused != nil:
		return nil, false, p.refused
	case in.code == codeFailure:
		return nil, false, ErrRefused
	case in.code != codeRequest:
		return nil, false, ErrMalformed
	}
	switch in.kind {
	case typeIdentity:
		return reply(typeIdentity, []byte(p.user))
	case typeNotification:
		return reply(typeNotification, nil)
	case typeMSCHAPv2:
		return p.mschap(in, reply)
	}
	return reply(typeNak, []byte{typeMSCHAPv2})
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
		p.refused = fmt.Errorf("%w: %s", ErrRefused, failureWords(string(body)))
		return reply(typeMSCHAPv2, []byte{opFailure})
	}
	return nil, false, ErrMalformed
}

// MSK is the key that the method leaves behind once it has succeeded, 64 octets.
func (p *Peer) MSK() []byte { return sessionKey(p.hash, p.response) }

// failureWords explains a failure message (RFC 2759 §6) without its numbers.
func failureWords(text string) string {
	for code, words := range map[string]string{
		"E=646": "logging in is not permitted at this hour", "E=647": "the account is disabled",
		"E=648": "the password has expired", "E=649": "no permission to log in", "E=691": "user or password is wrong",
	} {
		if strings.HasPrefix(text, code) {
			return words
		}
	}
	return "without a reason"
}
