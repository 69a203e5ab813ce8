package cert

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"errors"
	"fmt"
	"slices"
	"unicode/utf8"
)

// Bounds of RSA keys in bits: shorter ones can be broken, and by longer ones whoever shows one keeps the other side busy.
const leastRSA, mostRSA = 2048, 8192

// GoodRSA refuses RSA keys of less than 2,048 bits and of more than 8,192.
func GoodRSA(k *rsa.PublicKey) error {
	if n := k.N.BitLen(); n < leastRSA || n > mostRSA {
		return fmt.Errorf("RSA key has %d bits, and %d to %d are taken", n, leastRSA, mostRSA)
	}
	return nil
}

// GoodKey refuses public keys that are too weak, or of kinds by which nobody can prove themselves here.
func GoodKey(key any) error {
	switch k := key.(type) {
	case *rsa.PublicKey:
		if err := GoodRSA(k); err != nil {
			return fmt.Errorf("the %w: make another one, or one on a curve", err)
		}
		return nil
	case *ecdsa.PublicKey:
		if !slices.Contains([]int{256, 384, 521}, k.Curve.Params().BitSize) {
			return errors.New("the curve must be P-256, P-384 or P-521")
		}
		return nil
	case ed25519.PublicKey:
		return nil
	}
	return errors.New("the key must be RSA, on P-256, P-384 or P-521, or Ed25519")
}

// A shared key can be tried against what was recorded of one login, as fast as whoever recorded it can.
const leastShared, leastDifferent = 20, 8

// GoodShared refuses keys that both ends know, of fewer than 20 characters or of fewer than eight different ones.
func GoodShared(value string) error {
	different := map[rune]bool{}
	for _, r := range value {
		different[r] = true
	}
	switch n := utf8.RuneCountInString(value); {
	case n < leastShared:
		return fmt.Errorf("a shared key of %d characters can be guessed from one recorded login: use %d or more", n, leastShared)
	case len(different) < leastDifferent:
		return errors.New("a shared key of so few different characters can be guessed")
	}
	return nil
}
