package ike

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"yellowlantern/internal/core/esp"
)

const (
	prfLen   = sha256.Size
	gcmKey   = 32 + 4 // AES-256 key, then the salt (RFC 5282 §7.1)
	gcmIV    = 8
	gcmICV   = 16
	nonceLen = 32
)

// prf is PRF_HMAC_SHA2_256 (RFC 4868).
func prf(key []byte, data ...[]byte) []byte {
	h := hmac.New(sha256.New, key)
	for _, d := range data {
		h.Write(d)
	}
	return h.Sum(nil)
}

// prfPlus is prf+ (RFC 7296 §2.13).
func prfPlus(key, seed []byte, n int) []byte {
	out := make([]byte, 0, n+prfLen)
	var last []byte
	for i := byte(1); len(out) < n; i++ {
		last = prf(key, last, seed, []byte{i})
		out = append(out, last...)
	}
	return out[:n]
}

// keys is the keying material of an IKE SA (RFC 7296 §2.14; SK_ai and SK_ar are empty with AEAD, RFC 5282 §7).
type keys struct {
	d, ei, er, pi, pr []byte
	sealI, sealR      cipher.AEAD
}

func deriveKeys(seed, ni, nr []byte, spiI, spiR uint64) *keys {
	s := append(append([]byte{}, ni...), nr...)
	s = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(s, spiI), spiR)
	stream := prfPlus(seed, s, 3*prfLen+2*gcmKey)
	take := func(n int) []byte {
		out := stream[:n:n]
		stream = stream[n:]
		return out
	}
	k := &keys{}
	k.d, k.ei, k.er, k.pi, k.pr = take(prfLen), take(gcmKey), take(gcmKey), take(prfLen), take(prfLen)
	k.sealI, k.sealR = newGCM(k.ei), newGCM(k.er)
	return k
}

func newGCM(key []byte) cipher.AEAD {
	block, err := aes.NewCipher(key[:32])
	if err != nil {
		panic(err) // the key has 32 octets
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	return gcm
}

// side gives key and cipher of one direction.
func (k *keys) side(initiator bool) ([]byte, cipher.AEAD) {
	if initiator {
		return k.ei, k.sealI
	}
	return k.er, k.sealR
}

// child derives the keys of a Child SA, one for each direction (RFC 7296 §2.17).
func (k *keys) child(shared, ni, nr []byte) (fromInitiator, fromResponder []byte) {
	seed := append(append(append([]byte{}, shared...), ni...), nr...)
	m := prfPlus(k.d, seed, 2*esp.KeyLen)
	return m[:esp.KeyLen], m[esp.KeyLen:]
}

// seal writes an encrypted message (RFC 7296 §3.14 with RFC 5282 §5). The IV is the message's counter, which never
// repeats under a key, for each side counts its own messages.
func (k *keys) seal(h header, ps []payload, fromInitiator bool, counter uint64) []byte {
	first, chain := marshalPayloads(ps)
	key, gcm := k.side(fromInitiator)
	h.first = plSK
	skLen := 4 + gcmIV + len(chain) + 1 + gcmICV
	out := marshalHeader(h, headerLen+skLen)
	out = append(out, byte(first), 0, byte(skLen>>8), byte(skLen))
	aad := out[: headerLen+4 : headerLen+4]
	iv := binary.BigEndian.AppendUint64(nil, counter)
	out = append(out, iv...)
	nonce := append(append([]byte{}, key[32:]...), iv...)
	return gcm.Seal(out, nonce, append(chain, 0), aad) // no padding: the pad length is 0
}

var errSealed = errors.New("ike: message does not decrypt")

// open decrypts a message whose last payload is an encrypted one, and gives it with the payloads inside.
func (k *keys) open(m *message, fromInitiator bool) (*message, error) {
	if len(m.payloads) == 0 || m.payloads[len(m.payloads)-1].kind != plSK {
		return nil, errSealed
	}
	body := m.payloads[len(m.payloads)-1].body
	if len(body) < gcmIV+gcmICV+1 {
		return nil, errMalformed
	}
	key, gcm := k.side(fromInitiator)
	aad := m.raw[:len(m.raw)-len(body)]
	nonce := append(append([]byte{}, key[32:]...), body[:gcmIV]...)
	plain, err := gcm.Open(nil, nonce, body[gcmIV:], aad)
	if err != nil {
		return nil, errSealed
	}
	pad := int(plain[len(plain)-1])
	if pad+1 > len(plain) {
		return nil, errMalformed
	}
	inner := &message{header: m.header, raw: m.raw}
	first := payloadType(m.raw[len(m.raw)-len(body)-4])
	inner.payloads, err = parsePayloads(first, plain[:len(plain)-1-pad])
	return inner, err
}

// dh is our half of a key exchange.
type dh struct {
	group uint16
	key   *ecdh.PrivateKey
}

func newDH(group uint16, rand io.Reader) (dh, error) {
	curve, err := curveOf(group)
	if err != nil {
		return dh{}, err
	}
	// GenerateKey may ignore the reader given to it; key bytes of our own keep a run repeatable under test.
	for range 64 {
		raw := make([]byte, 32)
		if _, err := io.ReadFull(rand, raw); err != nil {
			return dh{}, err
		}
		if key, err := curve.NewPrivateKey(raw); err == nil {
			return dh{group, key}, nil
		}
	}
	return dh{}, errors.New("ike: no private key found")
}

func curveOf(group uint16) (ecdh.Curve, error) {
	switch group {
	case groupX25519:
		return ecdh.X25519(), nil
	case groupP256:
		return ecdh.P256(), nil
	}
	return nil, fmt.Errorf("ike: group %d is not supported", group)
}

// public is the KE payload's data: RFC 8031 §3.1; RFC 5903 §7 leaves out the point format's first octet.
func (d dh) public() []byte {
	pub := d.key.PublicKey().Bytes()
	if d.group == groupP256 {
		return pub[1:]
	}
	return pub
}

// shared gives the shared secret; a value of the wrong length or not on the curve is an error, as is the all-zero result.
func (d dh) shared(peer []byte) ([]byte, error) {
	if d.group == groupP256 {
		peer = append([]byte{4}, peer...)
	}
	pub, err := d.key.Curve().NewPublicKey(peer)
	if err != nil {
		return nil, err
	}
	return d.key.ECDH(pub)
}
