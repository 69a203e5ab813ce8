package esp

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"hash"

	"golang.org/x/crypto/chacha20poly1305"
)

// Algorithm protects packets and IKE messages: an encryption, and an integrity beside it where the encryption has none of its own. The zero
// value is none.
type Algorithm struct {
	Encryption Encryption
	Integrity  Integrity
	// ESN is that packets have sequence numbers of 64 bits, of which the lower half is sent (RFC 4303 §2.2.1).
	ESN bool
}

// Encryption is one of these.
type Encryption uint8

// The encryptions that exist. The first three protect integrity themselves: they take a 4-octet salt behind the key, an 8-octet IV, and add
// a 16-octet ICV (RFC 4106 §8.1, RFC 7634 §2), also for IKE messages (RFC 5282 §7.1).
const (
	_ Encryption = iota
	EncrAES256GCM
	EncrAES128GCM
	EncrChaCha20Poly1305
	EncrAES256CBC // RFC 3602
	EncrAES128CBC
	Encr3DES // RFC 2451
)

// Integrity is one of these; the zero value is none.
type Integrity uint8

// The integrities that exist: HMAC with these hashes, cut to half (RFC 4868 §2.1) or to 96 bits (RFC 2404).
const (
	_ Integrity = iota
	HMACSHA256
	HMACSHA384
	HMACSHA512
	HMACSHA1
)

// Those that stand alone.
var (
	AES256GCM        = Algorithm{Encryption: EncrAES256GCM}
	AES128GCM        = Algorithm{Encryption: EncrAES128GCM}
	ChaCha20Poly1305 = Algorithm{Encryption: EncrChaCha20Poly1305}
)

// Own tells whether an encryption protects integrity itself.
func (e Encryption) Own() bool { return e <= EncrChaCha20Poly1305 }

// shape is what an encryption takes, in octets.
type shape struct{ key, iv, block int }

var shapes = [...]shape{
	EncrAES256GCM: {32 + saltLen, 8, 4}, EncrAES128GCM: {16 + saltLen, 8, 4}, EncrChaCha20Poly1305: {32 + saltLen, 8, 4},
	EncrAES256CBC: {32, 16, 16}, EncrAES128CBC: {16, 16, 16}, Encr3DES: {24, 8, 8},
}

// shape is nothing of what does not exist.
func (e Encryption) shape() (s shape) {
	if int(e) < len(shapes) {
		s = shapes[e]
	}
	return s
}

// mac is what an integrity takes and gives, in octets; the key is as long as the hash (RFC 4868 §2.1.1).
type mac struct {
	key, icv int
	hash     func() hash.Hash
}

var macs = [...]mac{
	HMACSHA256: {32, 16, sha256.New}, HMACSHA384: {48, 24, sha512.New384}, HMACSHA512: {64, 32, sha512.New}, HMACSHA1: {20, 12, sha1.New},
}

// mac is nothing of what does not exist.
func (i Integrity) mac() (m mac) {
	if int(i) < len(macs) {
		m = macs[i]
	}
	return m
}

// EncryptionLen is the keying material of the encryption in one direction in octets: the key, then the salt if it has one.
func (a Algorithm) EncryptionLen() int { return a.Encryption.shape().key }

// IntegrityLen is that of the integrity.
func (a Algorithm) IntegrityLen() int { return a.Integrity.mac().key }

// KeyLen is the keying material of one direction in octets: for the encryption, then for the integrity (RFC 7296 §2.17).
func (a Algorithm) KeyLen() int { return a.EncryptionLen() + a.IntegrityLen() }

// IVLen is the length of the IV, and ICVLen of what proves integrity, in octets.
func (a Algorithm) IVLen() int { return a.Encryption.shape().iv }

// ICVLen is the length of what proves integrity, in octets.
func (a Algorithm) ICVLen() int {
	if a.Encryption.Own() {
		return icvLen
	}
	return a.Integrity.mac().icv
}

// Block is what a packet with its trailer is padded to a multiple of: the cipher's block, at least 4 (RFC 4303 §2.4).
func (a Algorithm) Block() int { return a.Encryption.shape().block }

// Sealed is how many octets a packet has once it is sealed: header, IV, packet with trailer and padding, and what proves it (RFC 4303 §2).
func (a Algorithm) Sealed(inner int) int {
	n := inner + 2
	return headerLen + a.IVLen() + n + (-n & (a.Block() - 1)) + a.ICVLen()
}

// Inner is the longest packet that has at most so many octets once it is sealed; not above 0: none has.
func (a Algorithm) Inner(sealed int) int {
	n := sealed - headerLen - a.IVLen() - a.ICVLen()
	return n - n%a.Block() - 2
}

// whole tells whether it is an algorithm at all.
func (a Algorithm) whole() bool {
	encr, integ := a.Encryption.shape().key > 0, a.Integrity.mac().key > 0
	return encr && integ != a.Encryption.Own()
}

// aead makes the cipher of keying material, and gives the salt that its nonces begin with.
func (a Algorithm) aead(key []byte) (aead cipher.AEAD, salt [saltLen]byte, err error) {
	n := len(key) - saltLen
	copy(salt[:], key[n:])
	if a.Encryption == EncrChaCha20Poly1305 {
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

func (a Algorithm) blocks(key []byte) (cipher.Block, error) {
	if a.Encryption == Encr3DES {
		return des.NewTripleDESCipher(key)
	}
	return aes.NewCipher(key)
}
