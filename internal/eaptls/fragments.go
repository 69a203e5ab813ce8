package eaptls

import (
	"encoding/binary"
	"errors"
)

// Flags of a packet (RFC 5216 §3.1, RFC 5281 §9.1); the lowest three bits are the version, which is 0.
const (
	flagLength = 0x80
	flagMore   = 0x40
	flagStart  = 0x20
	version    = 0x07
)

var (
	errMalformed = errors.New("eaptls: malformed packet")
	errTooLarge  = errors.New("eaptls: more octets than a login needs")
)

// assembly puts flights together that come in parts, and cuts those that go out.
type assembly struct {
	in   []byte
	out  []byte
	more bool // parts of the flight are to follow
}

// take takes the data of a packet. whole is a flight once all of it is there; nil: the next part is awaited, or the packet asks for ours.
func (a *assembly) take(data []byte) (whole []byte, err error) {
	if len(data) < 1 || data[0]&version != 0 {
		return nil, errMalformed
	}
	flags, body := data[0], data[1:]
	if flags&flagLength != 0 {
		if len(body) < 4 {
			return nil, errMalformed
		}
		if total := binary.BigEndian.Uint32(body); total > mostAtOne {
			return nil, errTooLarge
		}
		body = body[4:]
	}
	if len(a.in)+len(body) > mostAtOne {
		return nil, errTooLarge
	}
	if flags&flagMore != 0 && len(body) == 0 { // a part with nothing in it could go on for ever
		return nil, errMalformed
	}
	a.in = append(a.in, body...)
	if a.more = flags&flagMore != 0; a.more {
		return nil, nil
	}
	whole, a.in = a.in, nil
	return whole, nil
}

// next is the data of the next packet of what is to be sent: a part of it, or nothing.
func (a *assembly) next(first bool) []byte {
	n := min(len(a.out), fragment)
	var data []byte
	switch {
	case n < len(a.out) && first:
		data = binary.BigEndian.AppendUint32([]byte{flagLength | flagMore}, uint32(len(a.out)))
	case n < len(a.out):
		data = []byte{flagMore}
	default:
		data = []byte{0}
	}
	data = append(data, a.out[:n]...)
	a.out = a.out[n:]
	return data
}
