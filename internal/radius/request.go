package radius

import (
	"errors"
	"fmt"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
)

// DecodeRequest reads a request of a server's to change or end sessions (RFC 5176 §2.3), which must be made with the secret; a
// Message-Authenticator need not be there, but must be right.
func DecodeRequest(b, secret []byte) (*Packet, error) {
	if len(b) < 20 {
		return nil, errors.New("it is shorter than a packet")
	}
	if n := int(b[2])<<8 | int(b[3]); n >= 20 && n < len(b) {
		b = b[:n]
	}
	p, err := wire.Parse(b, secret)
	switch {
	case err != nil:
		return nil, err
	case p.Code != wire.CodeDisconnectRequest && p.Code != wire.CodeCoARequest:
		return nil, fmt.Errorf("it is no request to change or end a session (%s)", p.Code)
	case !wire.IsAuthenticRequest(b, secret):
		return nil, ErrForged
	}
	if _, given := p.Lookup(rfc2869.MessageAuthenticator_Type); given && !authentic(b, make([]byte, 16), secret) {
		return nil, ErrForged
	}
	return p, nil
}

// Answer writes the answer to a request, with what proxies on the way want back (RFC 5176 §3.1).
func Answer(request *Packet, code wire.Code, fill func(p *Packet) error) ([]byte, error) {
	a := request.Response(code)
	states, err := rfc2865.ProxyState_Gets(request)
	if err != nil {
		return nil, err
	}
	for _, s := range states {
		if err := rfc2865.ProxyState_Add(a, s); err != nil {
			return nil, err
		}
	}
	if fill != nil {
		if err := fill(a); err != nil {
			return nil, err
		}
	}
	return a.Encode()
}
