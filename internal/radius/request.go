package radius

import (
	"errors"
	"fmt"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
)

const shortest = 20 // octets of a packet: its header (RFC 2865 §3)

// ErrUnsigned is for requests that nothing tells from forged ones.
var ErrUnsigned = errors.New("it has no Message-Authenticator (RFC 3579 §3.2): have the equipment send one")

func errOther(c wire.Code) error {
	return fmt.Errorf("a packet of that kind is not taken here (%s)", c)
}

// read reads a packet, without what is behind it.
func read(b, secret []byte) ([]byte, *Packet, error) {
	if len(b) < shortest {
		return nil, nil, errors.New("it is shorter than a packet")
	}
	if n := int(b[2])<<8 | int(b[3]); n >= shortest && n < len(b) {
		b = b[:n] // what follows is padding (RFC 2865 §3)
	}
	p, err := wire.Parse(b, secret)
	return b, p, err
}

// DecodeRequest reads a request of a server's to change or end sessions (RFC 5176 §2.3), which must be made with the secret; a
// Message-Authenticator need not be there, but must be right.
func DecodeRequest(b, secret []byte) (*Packet, error) {
	b, p, err := read(b, secret)
	switch {
	case err != nil:
		return nil, err
	case p.Code != wire.CodeDisconnectRequest && p.Code != wire.CodeCoARequest:
		return nil, errOther(p.Code)
	case !wire.IsAuthenticRequest(b, secret), given(p) && !authentic(b, make([]byte, 16), secret):
		return nil, ErrForged
	}
	return p, nil
}

// Answer writes the answer to a request, with what proxies on the way want back (RFC 5176 §3.1).
func Answer(request *Packet, code wire.Code, fill func(p *Packet) error) ([]byte, error) {
	a, err := answerTo(request, code, fill)
	if err != nil {
		return nil, err
	}
	return a.Encode()
}

func answerTo(request *Packet, code wire.Code, fill func(p *Packet) error) (*Packet, error) {
	a := request.Response(code)
	if fill != nil {
		if err := fill(a); err != nil {
			return nil, err
		}
	}
	states, err := rfc2865.ProxyState_Gets(request)
	if err != nil {
		return nil, err
	}
	for _, s := range states { // last, in their order (RFC 2865 §5.33)
		if err := rfc2865.ProxyState_Add(a, s); err != nil {
			return nil, err
		}
	}
	return a, nil
}
