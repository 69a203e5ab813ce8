package ike

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"io"
	"time"
)

// cookieLife is how long a secret makes cookies; those of the one before are taken as long again (RFC 7296 §2.6).
const cookieLife = 2 * time.Minute

// cookies are answers that only somebody can give who gets datagrams at the address and port from which they come. Nothing is kept for
// them: they can be made again from the request.
type cookies struct {
	secrets [2][32]byte // the newer first
	version byte        // of the newer
	made    time.Time
}

// renew makes a new secret when it is time for one.
func (c *cookies) renew(now time.Time, rand io.Reader) error {
	age := now.Sub(c.made)
	if !c.made.IsZero() && age < cookieLife {
		return nil
	}
	if c.secrets[1] = c.secrets[0]; c.made.IsZero() || age >= 2*cookieLife { // nobody used the one before for long
		if _, err := io.ReadFull(rand, c.secrets[1][:]); err != nil {
			return err
		}
	}
	c.version++
	c.made = now
	_, err := io.ReadFull(rand, c.secrets[0][:])
	return err
}

// of is the cookie for a request, by the newer secret.
func (c *cookies) of(from Peer, spiI uint64, nonce []byte) []byte { return c.by(0, from, spiI, nonce) }

func (c *cookies) by(secret int, from Peer, spiI uint64, nonce []byte) []byte {
	h := hmac.New(sha256.New, c.secrets[secret][:])
	h.Write(binary.BigEndian.AppendUint64(nil, spiI))
	addr := from.Addr.Addr().As16()
	h.Write(addr[:])
	h.Write(binary.BigEndian.AppendUint16(nil, from.Addr.Port()))
	h.Write(nonce)
	return h.Sum([]byte{c.version - byte(secret)})
}

// proves tells whether a cookie was made for this request, lately.
func (c *cookies) proves(cookie []byte, from Peer, spiI uint64, nonce []byte) bool {
	return hmac.Equal(cookie, c.by(0, from, spiI, nonce)) || hmac.Equal(cookie, c.by(1, from, spiI, nonce))
}
