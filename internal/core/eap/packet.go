// Package eap holds the Extensible Authentication Protocol (RFC 3748) as state machines for both sides, with the
// method EAP-MSCHAPv2 (MS-CHAPv2 by RFC 2759, keys by RFC 3079). Whether a response is right is asked of whoever keeps
// the passwords; the server side here never holds one.
package eap

import (
	"errors"

	"golang.org/x/crypto/cryptobyte"
)

// Codes (RFC 3748 §4).
const (
	codeRequest  = 1
	codeResponse = 2
	codeSuccess  = 3
	codeFailure  = 4
)

// Types (RFC 3748 §5; 26 is EAP-MSCHAPv2).
const (
	TypeIdentity     = 1
	typeNotification = 2
	TypeNak          = 3
	typeMSCHAPv2     = 26
)

// ErrMalformed is a packet that is not EAP, or not of the form its method has.
var ErrMalformed = errors.New("eap: malformed packet")

// packet is one EAP packet; kind and data are absent in success and failure.
type packet struct {
	code, id, kind byte
	data           []byte
}

func parse(b []byte) (packet, error) {
	s := cryptobyte.String(b)
	var p packet
	var length uint16
	if !s.ReadUint8(&p.code) || !s.ReadUint8(&p.id) || !s.ReadUint16(&length) || int(length) < 4 || int(length) > len(b) {
		return p, ErrMalformed
	}
	s = cryptobyte.String(b[4:length])
	if p.code == codeSuccess || p.code == codeFailure {
		return p, nil
	}
	if !s.ReadUint8(&p.kind) {
		return p, ErrMalformed
	}
	p.data = s
	return p, nil
}

func (p packet) marshal() []byte {
	b := []byte{p.code, p.id, 0, 4}
	if p.code == codeRequest || p.code == codeResponse {
		b = append(append(b, p.kind), p.data...)
	}
	b[2], b[3] = byte(len(b)>>8), byte(len(b))
	return b
}

// AskIdentity is the question with which a conversation begins that is carried on elsewhere.
func AskIdentity() []byte { return packet{codeRequest, 1, TypeIdentity, nil}.marshal() }

// Identity is who a device claims to be, of an answer to the question who it is.
func Identity(message []byte) (string, bool) {
	p, err := parse(message)
	return string(p.data), err == nil && p.code == codeResponse && p.kind == TypeIdentity
}

// Failure ends a conversation after a device's message.
func Failure(message []byte) []byte {
	p, _ := parse(message) // of one that cannot be read the number is 0
	return packet{code: codeFailure, id: p.id}.marshal()
}

// Response is an answer of a device's.
func Response(id, kind byte, data []byte) []byte {
	return packet{codeResponse, id, kind, data}.marshal()
}

// Request reads what a device is asked; ok is false where it is asked nothing.
func Request(b []byte) (id, kind byte, data []byte, ok bool) {
	p, err := parse(b)
	return p.id, p.kind, p.data, err == nil && p.code == codeRequest
}
