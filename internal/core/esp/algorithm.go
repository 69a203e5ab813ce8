package esp

import (
	"crypto/aes"
	"crypto/cipher"

	"golang.org/x/crypto/chacha20poly1305"
)

// Algorithm encrypts with an integrity of its own. All of them take a 4-octet salt behind the key, an 8-octet IV, and add a 16-octet
// ICV (RFC 4106 §8.1, RFC 7634 §2), also for IKE messages (RFC 5282 §7.1).
type Algorithm uint8

// The algorithms that exist.
const (
	AES256GCM Algorithm = iota
	AES128GCM
	ChaCha20Poly1305
)

// KeyLen is the keying material of one direction in octets: the key, then the salt.
func (a Algorithm) KeyLen() int {
	if a == AES128GCM {
		return 16 + saltLen
	}
	return 32 + saltLen
}

// AEAD makes the cipher of keying material, and gives the salt that its nonces begin with.
func (a Algorithm) AEAD(key []byte) (aead cipher.AEAD, salt [saltLen]byte, err error) {
	if len(key) != a.KeyLen() {
		return nil, salt, errKeyLen
	}
	n := len(key) - saltLen
	copy(salt[:], key[n:])
	if a == ChaCha20Poly1305 {
		aead, err = chacha20poly1305.New(key[:n])
		return aead, salt, err
	}
	block, err := aes.NewCipher(key[:n])
	if err != nil {
		return nil, salt, err
	}
	aead, err = cipher.NewGCM(block)
	return aead, salt, err
}
