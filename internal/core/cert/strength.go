package cert

import (
	"crypto/rsa"
	"fmt"
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
