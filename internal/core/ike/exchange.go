package ike

import (
	"crypto/ecdh"
	"errors"
	"fmt"
	"io"
	"math/big"
)

// dh is our half of a key exchange.
type dh struct {
	group uint16
	key   *ecdh.PrivateKey // on a curve
	modp  *big.Int         // the exponent, in place of key
	power []byte           // and the generator to its power
}

// slow tells whether exchanges of a group take milliseconds.
func slow(group uint16) bool { return modps[group].size > 0 }

func newDH(group uint16, rand io.Reader) (dh, error) {
	if m, ok := modps[group]; ok {
		raw := make([]byte, m.exponent/8)
		if _, err := io.ReadFull(rand, raw); err != nil {
			return dh{}, err
		}
		raw[0] |= 0x80 // as long as it is said to be
		x := new(big.Int).SetBytes(raw)
		return dh{group: group, modp: x, power: new(big.Int).Exp(two, x, m.prime).FillBytes(make([]byte, m.size))}, nil
	}
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
			return dh{group: group, key: key}, nil
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

// public is the KE payload's data: RFC 8031 §3.1; RFC 5903 §7 leaves out the point format's first octet; RFC 7296 §3.4 pads to the length
// of the prime.
func (d dh) public() []byte {
	if d.modp != nil {
		return d.power
	}
	pub := d.key.PublicKey().Bytes()
	if d.group != groupX25519 {
		return pub[1:]
	}
	return pub
}

var errPublic = errors.New("ike: the peer's half of the key exchange is none of the group")

// shared gives the shared secret; a value of the wrong length, not on the curve or not within the group is an error (RFC 6989), as is the
// all-zero result.
func (d dh) shared(peer []byte) ([]byte, error) {
	if d.modp != nil {
		m := modps[d.group]
		y := new(big.Int).SetBytes(peer)
		// All of these primes are safe ones: what is neither 1 nor -1 has an order that is large (RFC 6989 §2.1).
		if len(peer) != m.size || y.Cmp(one) <= 0 || y.Cmp(new(big.Int).Sub(m.prime, one)) >= 0 {
			return nil, errPublic
		}
		return y.Exp(y, d.modp, m.prime).FillBytes(make([]byte, m.size)), nil
	}
	if d.group != groupX25519 {
		peer = append([]byte{4}, peer...)
	}
	pub, err := d.key.Curve().NewPublicKey(peer)
	if err != nil {
		return nil, err
	}
	return d.key.ECDH(pub)
}
