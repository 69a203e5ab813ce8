// Package radius carries packets of RADIUS (RFC 2865) between the service and servers elsewhere: signed and judged as both sides must, by
// UDP with repetition (RFC 5080) and over TLS (RFC 6614). What stands in packets is a package's that is not ours; what follows from them is
// left to who asks.
package radius

import (
	"crypto/hmac"
	"crypto/md5"
	"errors"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2869"
)

// Packet is one.
type Packet = wire.Packet

// ErrForged is a packet that was not made with the secret that both sides share, or not for what was asked.
var ErrForged = errors.New("it is not made with the secret that is kept for this server")

// signs tells whether packets of a kind carry a Message-Authenticator of ours (RFC 3579 §3.2, RFC 5997 §3).
func signs(c wire.Code) bool {
	return c == wire.CodeAccessRequest || c == wire.CodeStatusServer || c == wire.CodeAccessAccept || c == wire.CodeAccessReject ||
		c == wire.CodeAccessChallenge
}

// encode writes a packet, with a Message-Authenticator in front where its kind has one. In answers p.Authenticator is the request's.
func encode(p *Packet) ([]byte, error) {
	if !signs(p.Code) {
		return p.Encode()
	}
	q := *p
	q.Attributes = append(wire.Attributes{{Type: rfc2869.MessageAuthenticator_Type, Attribute: make([]byte, 16)}}, p.Attributes...)
	b, err := q.MarshalBinary()
	if err != nil {
		return nil, err
	}
	mac := hmac.New(md5.New, p.Secret)
	mac.Write(b)
	copy(q.Attributes[0].Attribute, mac.Sum(nil))
	return q.Encode()
}

// Decode reads an answer to a request as it was sent. Every answer to an Access-Request must have a Message-Authenticator that is right,
// but where the transport protects it: without one whoever is on the way can turn a refusal into an acceptance.
func Decode(b, request []byte, secret []byte, protected bool) (*Packet, error) {
	b, p, err := read(b, secret)
	if err != nil {
		return nil, err
	}
	if len(request) < shortest || p.Identifier != request[1] {
		return nil, errors.New("it is no answer to what was asked")
	}
	if !wire.IsAuthenticResponse(b, request, secret) {
		return nil, ErrForged
	}
	value, given := p.Lookup(rfc2869.MessageAuthenticator_Type)
	switch {
	case given && !authentic(b, request[4:20], secret):
		return nil, ErrForged
	case !given && !protected && request[0] == byte(wire.CodeAccessRequest):
		return nil, errors.New("it has no Message-Authenticator: have the server send one (RFC 3579 §3.2)")
	case given && len(value) != 16:
		return nil, ErrForged
	}
	return p, nil
}

// authentic tells whether the one Message-Authenticator of a packet is right. authenticator is what stood in the request's header.
func authentic(b, authenticator, secret []byte) bool {
	c := append([]byte(nil), b...)
	copy(c[4:20], authenticator)
	at := 0
	for i := 20; i+2 <= len(c); i += int(c[i+1]) {
		if c[i+1] < 2 {
			return false
		}
		if c[i] == byte(rfc2869.MessageAuthenticator_Type) {
			if at != 0 || c[i+1] != 18 || i+18 > len(c) {
				return false
			}
			at = i + 2
		}
	}
	if at == 0 {
		return false
	}
	var was [16]byte
	copy(was[:], c[at:at+16])
	clear(c[at : at+16])
	mac := hmac.New(md5.New, secret)
	mac.Write(c)
	return hmac.Equal(mac.Sum(nil), was[:])
}
