package eap

import (
	"crypto/des" //nolint:staticcheck // RFC 2759 is made of it
	"crypto/rc4" //nolint:staticcheck // RFC 2759 is made of it
	"encoding/binary"
	"errors"
	"io"
	"unicode/utf16"
)

// blockLen is the length of a password as it travels: 512 octets that end with it, and its length (RFC 2759 §8.10).
const blockLen = 516

// Change is a password that somebody chose in place of one that is over, as their device sends it (RFC 2759 §6).
type Change struct {
	Password [blockLen]byte  // the new one, by the hash of the old one
	Hash     [NTHashLen]byte // of the old one, by the hash of the new one
}

// ErrChange is a change that was not made by somebody who knows the old password.
var ErrChange = errors.New("eap: the new password cannot be read with the old one")

// NewChange hides a new password; the padding is random.
func NewChange(random io.Reader, old [NTHashLen]byte, password string) (c Change, err error) {
	text := utf16.Encode([]rune(password))
	if len(text) == 0 || 2*len(text) > blockLen-4 {
		return c, errors.New("eap: a password of that length cannot be sent")
	}
	if _, err = io.ReadFull(random, c.Password[:blockLen-4-2*len(text)]); err != nil {
		return c, err
	}
	for i, u := range text {
		binary.LittleEndian.PutUint16(c.Password[blockLen-4-2*len(text)+2*i:], u)
	}
	binary.LittleEndian.PutUint32(c.Password[blockLen-4:], uint32(2*len(text)))
	stream(old, c.Password[:])
	c.Hash = blocks(old, NTHash(password), false)
	return c, nil
}

// Open gives the new password, if the change was made by somebody who knows the old one.
func (c Change) Open(old [NTHashLen]byte) (password string, err error) {
	b := c.Password
	stream(old, b[:])
	n := binary.LittleEndian.Uint32(b[blockLen-4:])
	if n == 0 || n%2 != 0 || n > blockLen-4 {
		return "", ErrChange
	}
	text := make([]uint16, n/2)
	for i := range text {
		text[i] = binary.LittleEndian.Uint16(b[blockLen-4-int(n)+2*i:])
	}
	password = string(utf16.Decode(text))
	if blocks(c.Hash, NTHash(password), true) != old {
		return "", ErrChange
	}
	return password, nil
}

// stream is the cipher of a block, either way.
func stream(key [NTHashLen]byte, b []byte) {
	c, err := rc4.NewCipher(key[:])
	if err != nil {
		panic(err) // the key has 16 octets
	}
	c.XORKeyStream(b, b)
}

// blocks is NtPasswordHashEncryptedWithBlock (RFC 2759 §8.13), or its reverse.
func blocks(b, key [NTHashLen]byte, reverse bool) (out [NTHashLen]byte) {
	for i := range 2 {
		block, err := des.NewCipher(withParity(key[i*7 : i*7+7]))
		if err != nil {
			panic(err) // the key has 8 octets
		}
		do := block.Encrypt
		if reverse {
			do = block.Decrypt
		}
		do(out[i*8:i*8+8], b[i*8:i*8+8])
	}
	return out
}
