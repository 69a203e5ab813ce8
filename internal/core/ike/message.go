// Package ike holds the Internet Key Exchange, version 2 (RFC 7296) as state machines for both sides: the gateway as
// responder for many callers, the remote user as initiator of one session. People log in by EAP inside it. Nothing in
// here waits, sends or keeps time: datagrams, answers and the time are handed in, datagrams, requests and events come out.
package ike

import (
	"errors"

	"golang.org/x/crypto/cryptobyte"
)

const (
	headerLen = 28
	version   = 0x20
	// MaxMessage is the largest message that is looked at, in octets: what a TCP message can hold behind its length and the marker
	// (RFC 9329 §3).
	MaxMessage = 1<<16 - 1 - 2 - 4
)

type exchange uint8

// Exchange types (RFC 7296 §3.1).
const (
	ikeSAInit     exchange = 34
	ikeAuth       exchange = 35
	createChildSA exchange = 36
	informational exchange = 37
	// ikeSessionResume is RFC 5723 §4.3.
	ikeSessionResume exchange = 38
	ikeIntermediate  exchange = 43 // RFC 9242 §3.2
	ikeFollowUp      exchange = 44 // IKE_FOLLOWUP_KE, RFC 9370 §2.2.4
)

// Header flags.
const (
	flagInitiator = 0x08
	flagResponse  = 0x20
	flagCritical  = 0x80 // of a payload
)

type payloadType uint8

// Payload types (RFC 7296 §3.2).
const (
	plNone    payloadType = 0
	plSA      payloadType = 33
	plKE      payloadType = 34
	plIDi     payloadType = 35
	plIDr     payloadType = 36
	plCert    payloadType = 37
	plCertReq payloadType = 38
	plAuth    payloadType = 39
	plNonce   payloadType = 40
	plNotify  payloadType = 41
	plDelete  payloadType = 42
	plVendor  payloadType = 43
	plTSi     payloadType = 44
	plTSr     payloadType = 45
	plSK      payloadType = 46
	plCP      payloadType = 47
	plEAP     payloadType = 48
	plSKF     payloadType = 53 // RFC 7383 §2.5
)

var errMalformed = errors.New("ike: malformed message")

type header struct {
	spiI, spiR uint64
	first      payloadType
	exchange   exchange
	flags      uint8
	id         uint32
}

func (h header) response() bool      { return h.flags&flagResponse != 0 }
func (h header) fromInitiator() bool { return h.flags&flagInitiator != 0 }

// payload is one payload as it travels; body leaves out the generic header.
type payload struct {
	kind     payloadType
	critical bool
	body     []byte
}

type message struct {
	header
	payloads []payload
	raw      []byte
	part     *part // it is a part of a message, and this is what it holds
	// chain is what was encrypted of it, as it came, and chainFirst the kind of its first payload.
	chain      []byte
	chainFirst payloadType
}

// parseHeader reads the header and checks that the length it tells is the datagram's.
func parseHeader(b []byte) (header, error) {
	s := cryptobyte.String(b)
	var h header
	var first, ver, ex uint8
	var length uint32
	if !s.ReadUint64(&h.spiI) || !s.ReadUint64(&h.spiR) || !s.ReadUint8(&first) || !s.ReadUint8(&ver) ||
		!s.ReadUint8(&ex) || !s.ReadUint8(&h.flags) || !s.ReadUint32(&h.id) || !s.ReadUint32(&length) {
		return h, errMalformed
	}
	if ver>>4 != version>>4 || int64(length) != int64(len(b)) || len(b) > MaxMessage || h.spiI == 0 {
		return h, errMalformed
	}
	h.first, h.exchange = payloadType(first), exchange(ex)
	return h, nil
}

// parsePayloads reads a chain. An encrypted payload ends it: its own chain comes after decryption.
func parsePayloads(first payloadType, b []byte) ([]payload, error) {
	s := cryptobyte.String(b)
	var out []payload
	for next := first; next != plNone; {
		var following, flags uint8
		var length uint16
		if !s.ReadUint8(&following) || !s.ReadUint8(&flags) || !s.ReadUint16(&length) || length < 4 {
			return nil, errMalformed
		}
		p := payload{kind: next, critical: flags&flagCritical != 0}
		if !s.ReadBytes(&p.body, int(length)-4) {
			return nil, errMalformed
		}
		out = append(out, p)
		if next == plSK || next == plSKF {
			break
		}
		next = payloadType(following)
	}
	if !s.Empty() {
		return nil, errMalformed
	}
	return out, nil
}

func parseMessage(b []byte) (*message, error) {
	h, err := parseHeader(b)
	if err != nil {
		return nil, err
	}
	m := &message{header: h, raw: b}
	m.payloads, err = parsePayloads(h.first, b[headerLen:])
	return m, err
}

// find gives the body of the first payload of a kind; ok is false if there is none.
func (m *message) find(kind payloadType) ([]byte, bool) {
	for _, p := range m.payloads {
		if p.kind == kind {
			return p.body, true
		}
	}
	return nil, false
}

func marshalHeader(h header, length int) []byte {
	b := cryptobyte.NewFixedBuilder(make([]byte, 0, headerLen))
	b.AddUint64(h.spiI)
	b.AddUint64(h.spiR)
	b.AddUint8(uint8(h.first))
	b.AddUint8(version)
	b.AddUint8(uint8(h.exchange))
	b.AddUint8(h.flags)
	b.AddUint32(h.id)
	b.AddUint32(uint32(length))
	return b.BytesOrPanic()
}

// marshalPayloads writes a chain and gives the kind of its first payload.
func marshalPayloads(ps []payload) (payloadType, []byte) {
	size := 0
	for _, p := range ps {
		size += 4 + len(p.body)
	}
	b := cryptobyte.NewBuilder(make([]byte, 0, size))
	for i, p := range ps {
		next := plNone
		if i+1 < len(ps) {
			next = ps[i+1].kind
		}
		flags := uint8(0)
		if p.critical {
			flags = flagCritical
		}
		b.AddUint8(uint8(next))
		b.AddUint8(flags)
		b.AddUint16(uint16(len(p.body) + 4))
		b.AddBytes(p.body)
	}
	if len(ps) == 0 {
		return plNone, nil
	}
	return ps[0].kind, b.BytesOrPanic()
}

// marshal writes a message in the clear.
func (m *message) marshal() []byte {
	first, body := marshalPayloads(m.payloads)
	m.first = first
	return append(marshalHeader(m.header, headerLen+len(body)), body...)
}
