package ike

import (
	"crypto/cipher"
	"crypto/ecdh"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"yellowlantern/internal/core/esp"
)

const (
	aeadIV   = 8  // RFC 5282 §3
	aeadICV  = 16 // RFC 5282 §2
	nonceLen = 32
)

// keys is the keying material of an IKE SA (RFC 7296 §2.14; SK_ai and SK_ar are empty with AEAD, RFC 5282 §7).
type keys struct {
	suite             Suite
	d, ei, er, pi, pr []byte
	sealI, sealR      cipher.AEAD
}

func deriveKeys(s Suite, seed, ni, nr []byte, spiI, spiR uint64) *keys {
	b := append(append([]byte{}, ni...), nr...)
	b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, spiI), spiR)
	n, e := s.prf.size(), s.encr.KeyLen()
	stream := s.prf.plus(seed, b, 3*n+2*e)
	take := func(n int) []byte {
		out := stream[:n:n]
		stream = stream[n:]
		return out
	}
	k := &keys{suite: s}
	k.d, k.ei, k.er, k.pi, k.pr = take(n), take(e), take(e), take(n), take(n)
	k.sealI, k.sealR = mustAEAD(s.encr, k.ei), mustAEAD(s.encr, k.er)
	return k
}

func mustAEAD(a esp.Algorithm, key []byte) cipher.AEAD {
	aead, _, err := a.AEAD(key)
	if err != nil {
		panic(err) // the key was cut to the algorithm's length
	}
	return aead
}

// side gives salt and cipher of one direction.
func (k *keys) side(initiator bool) ([]byte, cipher.AEAD) {
	key, aead := k.er, k.sealR
	if initiator {
		key, aead = k.ei, k.sealI
	}
	return key[len(key)-4:], aead
}

// child derives the keys of a Child SA, one for each direction (RFC 7296 §2.17).
func (k *keys) child(a esp.Algorithm, shared, ni, nr []byte) (fromInitiator, fromResponder []byte) {
	seed := append(append(append([]byte{}, shared...), ni...), nr...)
	m := k.suite.prf.plus(k.d, seed, 2*a.KeyLen())
	return m[:a.KeyLen()], m[a.KeyLen():]
}

// renewed derives the keys of the IKE SA that takes this one's place (RFC 7296 §2.18): the seed by the PRF of the older one.
func (k *keys) renewed(s Suite, shared, ni, nr []byte, spiI, spiR uint64) *keys {
	return deriveKeys(s, k.suite.prf.sum(k.d, shared, ni, nr), ni, nr, spiI, spiR)
}

// firstKeys derives the keys of a new IKE SA (RFC 7296 §2.14).
func firstKeys(s Suite, shared, ni, nr []byte, spiI, spiR uint64) *keys {
	return deriveKeys(s, s.prf.sum(append(append([]byte{}, ni...), nr...), shared), ni, nr, spiI, spiR)
}

// seal writes an encrypted message (RFC 7296 §3.14 with RFC 5282 §5). The IV is the message's counter, which never
// repeats under a key, for each side counts its own messages.
func (k *keys) seal(h header, ps []payload, fromInitiator bool, counter uint64) []byte {
	first, chain := marshalPayloads(ps)
	return k.sealChain(h, first, chain, fromInitiator, counter)
}

// sealChain encrypts a chain of payloads that begins with the given kind.
func (k *keys) sealChain(h header, first payloadType, chain []byte, fromInitiator bool, counter uint64) []byte {
	salt, aead := k.side(fromInitiator)
	h.first = plSK
	skLen := 4 + aeadIV + len(chain) + 1 + aeadICV
	out := marshalHeader(h, headerLen+skLen)
	out = append(out, byte(first), 0, byte(skLen>>8), byte(skLen))
	aad := out[: headerLen+4 : headerLen+4]
	iv := binary.BigEndian.AppendUint64(nil, counter)
	out = append(out, iv...)
	nonce := append(append([]byte{}, salt...), iv...)
	return aead.Seal(out, nonce, append(chain[:len(chain):len(chain)], 0), aad) // no padding: the pad length is 0
}

var errSealed = errors.New("ike: message does not decrypt")

// open decrypts a message whose last payload is an encrypted one, and gives it with the payloads inside. With errSealed nobody knows who
// sent it, and nothing may come of it; errMalformed is about a message that the peer did send.
func (k *keys) open(m *message, fromInitiator bool) (*message, error) {
	if len(m.payloads) == 0 || m.payloads[len(m.payloads)-1].kind != plSK {
		return nil, errSealed
	}
	body := m.payloads[len(m.payloads)-1].body
	if len(body) < aeadIV+aeadICV {
		return nil, errSealed // nothing is known of who sent it
	}
	salt, aead := k.side(fromInitiator)
	aad := m.raw[:len(m.raw)-len(body)]
	nonce := append(append([]byte{}, salt...), body[:aeadIV]...)
	plain, err := aead.Open(nil, nonce, body[aeadIV:], aad)
	if err != nil {
		return nil, errSealed
	}
	if len(plain) == 0 {
		return nil, errMalformed
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
		raw := make([]byte, groupSizes[group])
		if _, err := io.ReadFull(rand, raw); err != nil {
			return dh{}, err
		}
		if group == groupP521 { // 521 bits: of the first octet only one may be set
			raw[0] &= 1
		}
		if key, err := curve.NewPrivateKey(raw); err == nil {
			return dh{group, key}, nil
		}
	}
	return dh{}, errors.New("ike: no private key found")
}

// groupSizes is the length of a private key in octets.
var groupSizes = map[uint16]int{groupX25519: 32, groupP256: 32, groupP384: 48, groupP521: 66}

func curveOf(group uint16) (ecdh.Curve, error) {
	switch group {
	case groupX25519:
		return ecdh.X25519(), nil
	case groupP256:
		return ecdh.P256(), nil
	case groupP384:
		return ecdh.P384(), nil
	case groupP521:
		return ecdh.P521(), nil
	}
	return nil, fmt.Errorf("ike: group %d is not supported", group)
}

// public is the KE payload's data: RFC 8031 §3.1; RFC 5903 §7 leaves out the point format's first octet.
func (d dh) public() []byte {
	pub := d.key.PublicKey().Bytes()
	if d.group != groupX25519 {
		return pub[1:]
	}
	return pub
}

// shared gives the shared secret; a value of the wrong length or not on the curve is an error, as is the all-zero result.
func (d dh) shared(peer []byte) ([]byte, error) {
	if d.group != groupX25519 {
		peer = append([]byte{4}, peer...)
	}
	pub, err := d.key.Curve().NewPublicKey(peer)
	if err != nil {
		return nil, err
	}
	return d.key.ECDH(pub)
}
