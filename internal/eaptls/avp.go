package eaptls

import (
	"encoding/binary"
)

// Attributes inside the tunnel (RFC 5281 §10.1, §11.2): those of RADIUS, with numbers of 32 bits.
const (
	avpUserName     = 1
	avpUserPassword = 2
	avpEAPMessage   = 79
	vendorMicrosoft = 311
	avpMSChallenge  = 11 // RFC 2548 §2.1.2
	avpMS2Response  = 25 // RFC 2548 §2.3.2
	avpMS2Success   = 26 // RFC 2548 §2.3.3
	flagVendor      = 0x80
	flagMandatory   = 0x40
	mostAVPs        = 64
)

// avp is one attribute.
type avp struct {
	code, vendor uint32
	mandatory    bool
	data         []byte
}

// parseAVPs reads attributes; an error is that they are cut off or malformed.
func parseAVPs(b []byte) (out []avp, err error) {
	for len(b) > 0 {
		if len(b) < 8 || len(out) == mostAVPs {
			return nil, errMalformed
		}
		a := avp{code: binary.BigEndian.Uint32(b), mandatory: b[4]&flagMandatory != 0}
		length := int(binary.BigEndian.Uint32(b[4:]) & 0xffffff)
		head := 8
		if b[4]&flagVendor != 0 {
			if len(b) < 12 {
				return nil, errMalformed
			}
			a.vendor, head = binary.BigEndian.Uint32(b[8:]), 12
		}
		if length < head || length > len(b) {
			return nil, errMalformed
		}
		a.data = b[head:length]
		out = append(out, a)
		b = b[min(len(b), (length+3)/4*4):]
	}
	return out, nil
}

// find gives an attribute's data.
func find(as []avp, vendor, code uint32) ([]byte, bool) {
	for _, a := range as {
		if a.code == code && a.vendor == vendor {
			return a.data, true
		}
	}
	return nil, false
}

func (a avp) append(b []byte) []byte {
	head, flags := 8, uint32(flagMandatory)<<24
	if a.vendor != 0 {
		head, flags = 12, flags|flagVendor<<24
	}
	b = binary.BigEndian.AppendUint32(b, a.code)
	b = binary.BigEndian.AppendUint32(b, flags|uint32(head+len(a.data)))
	if a.vendor != 0 {
		b = binary.BigEndian.AppendUint32(b, a.vendor)
	}
	b = append(b, a.data...)
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}
