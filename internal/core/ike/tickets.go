package ike

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"encoding/json"
	"io"
	"net/netip"
	"time"

	"yellowlantern/internal/core/esp"
)

// Secrets are what a gateway keeps over its own end, so that devices learn soon of it and come back without logging in anew.
type Secrets struct {
	// Crash is what tokens of IKE SAs are made with (RFC 6290), 32 octets; nil: there are none.
	Crash []byte
	// Tickets are the keys of what devices come back by (RFC 5723), the newest first; none: there is nothing of it.
	Tickets []TicketKey
}

// TicketKey is one of them. Whoever has it can read traffic of sessions whose tickets they saw: it is to be forgotten once no ticket that
// was made with it counts any more.
type TicketKey struct {
	ID   uint32    `json:"id"`
	Key  []byte    `json:"key"` // 32 octets
	Made time.Time `json:"made"`
}

// ticket is what a gateway gives a device to keep for it, sealed (RFC 5723 §4.2): all that the IKE SA of the way back is made of.
type ticket struct {
	Tunnel   string    `json:"t"`
	Name     string    `json:"n"`           // of the gateway, then
	ID       []byte    `json:"i"`           // the device's ID payload
	D        []byte    `json:"d"`           // SK_d
	Suite    []uint16  `json:"s"`           // encryption, integrity, PRF, group, additional exchange
	Mixed    bool      `json:"m,omitempty"` // a shared key was mixed in
	Remember []byte    `json:"r"`           // of the person: the gateway's own
	Until    time.Time `json:"u"`
	// Place is where the device was, as strangers are told apart; OnePlace that it comes back from there alone.
	Place    netip.Prefix `json:"a"`
	OnePlace bool         `json:"o,omitempty"`
}

func (s Suite) numbers() []uint16 {
	return []uint16{uint16(s.encr.Encryption), uint16(s.encr.Integrity), uint16(s.prf), s.group, s.additional}
}

func suiteOf(n []uint16) (Suite, bool) {
	if len(n) != 5 {
		return Suite{}, false
	}
	encr := esp.Algorithm{Encryption: esp.Encryption(n[0]), Integrity: esp.Integrity(n[1])}
	return Suite{encr: encr, prf: prfKind(n[2]), group: n[3], additional: n[4]}, true
}

const ticketIDLen, ticketNonceLen = 4, 12

func (k TicketKey) aead() (cipher.AEAD, error) {
	block, err := aes.NewCipher(k.Key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// seal writes a ticket; nil: no key is there.
func (s Secrets) seal(rand io.Reader, t ticket) []byte {
	if len(s.Tickets) == 0 {
		return nil
	}
	k := s.Tickets[0]
	aead, err := k.aead()
	if err != nil {
		return nil
	}
	plain, err := json.Marshal(t)
	out := binary.BigEndian.AppendUint32(nil, k.ID)
	out = append(out, make([]byte, ticketNonceLen)...)
	if _, errRand := io.ReadFull(rand, out[ticketIDLen:]); err != nil || errRand != nil {
		return nil
	}
	return aead.Seal(out, out[ticketIDLen:], plain, out[:ticketIDLen])
}

// open reads a ticket that still counts.
func (s Secrets) open(now time.Time, b []byte) (t ticket, ok bool) {
	if len(b) < ticketIDLen+ticketNonceLen {
		return t, false
	}
	for _, k := range s.Tickets {
		if k.ID != binary.BigEndian.Uint32(b) {
			continue
		}
		aead, err := k.aead()
		if err != nil {
			return t, false
		}
		plain, err := aead.Open(nil, b[ticketIDLen:ticketIDLen+ticketNonceLen], b[ticketIDLen+ticketNonceLen:], b[:ticketIDLen])
		ok = err == nil && json.Unmarshal(plain, &t) == nil && now.Before(t.Until)
		return t, ok
	}
	return t, false
}

// resumedKeys derives the keys of the IKE SA of somebody who comes back (RFC 5723 §5.1).
func resumedKeys(s Suite, d, ni, nr []byte, spiI, spiR uint64) *keys {
	return deriveKeys(s, s.prf.sum(d, []byte("Resumption"), ni, nr), ni, nr, spiI, spiR)
}

// backAuth is AUTH of somebody who comes back, and the gateway's answer to it (RFC 5723 §5.1).
func (k *keys) backAuth(skP, octets []byte) []byte { return k.suite.prf.sum(skP, octets) }

// lasting writes TICKET_LT_OPAQUE: for how many seconds a ticket counts, then the ticket (RFC 5723 §7.2).
func lasting(now time.Time, until time.Time, sealed []byte) payload {
	seconds := uint32(max(0, until.Sub(now)/time.Second))
	return notify{kind: nTicketLasting, data: append(binary.BigEndian.AppendUint32(nil, seconds), sealed...)}.payload()
}
