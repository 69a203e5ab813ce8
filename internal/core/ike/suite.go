package ike

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"hash"
	"slices"
	"strings"

	"yellowlantern/internal/core/esp"
)

// prfKind is a pseudo-random function by its transform identifier (RFC 4868).
type prfKind uint16

// sum is prf(key, data).
func (k prfKind) sum(key []byte, data ...[]byte) []byte {
	h := hmac.New(k.hash(), key)
	for _, d := range data {
		h.Write(d)
	}
	return h.Sum(nil)
}

func (k prfKind) hash() func() hash.Hash {
	switch k {
	case prfHMACSHA384:
		return sha512.New384
	case prfHMACSHA512:
		return sha512.New
	}
	return sha256.New
}

// size is the length of its output, and of the keys made for it, in octets.
func (k prfKind) size() int {
	switch k {
	case prfHMACSHA384:
		return sha512.Size384
	case prfHMACSHA512:
		return sha512.Size
	}
	return sha256.Size
}

// plus is prf+ (RFC 7296 §2.13).
func (k prfKind) plus(key, seed []byte, n int) []byte {
	out := make([]byte, 0, n+k.size())
	var last []byte
	for i := byte(1); len(out) < n; i++ {
		last = k.sum(key, last, seed, []byte{i})
		out = append(out, last...)
	}
	return out[:n]
}

// Suite is one set of algorithms for the key exchange: encryption, PRF and group. Traffic is encrypted by the same algorithms, in the
// order of the suites.
type Suite struct {
	Name  string
	encr  esp.Algorithm
	prf   prfKind
	group uint16
}

// The suites that need no choosing.
var (
	X25519 = Suite{"aes256gcm-sha256-x25519", esp.AES256GCM, prfHMACSHA256, groupX25519}
	P256   = Suite{"aes256gcm-sha256-p256", esp.AES256GCM, prfHMACSHA256, groupP256}
)

var (
	encryptions = map[string]esp.Algorithm{"aes256gcm": esp.AES256GCM, "aes128gcm": esp.AES128GCM, "chacha20poly1305": esp.ChaCha20Poly1305}
	prfs        = map[string]prfKind{"sha256": prfHMACSHA256, "sha384": prfHMACSHA384, "sha512": prfHMACSHA512}
	groups      = map[string]uint16{"x25519": groupX25519, "p256": groupP256, "p384": groupP384, "p521": groupP521}
)

// SuiteNamed finds a suite by its name: encryption, PRF and group, joined by hyphens.
func SuiteNamed(name string) (Suite, bool) {
	parts := strings.Split(name, "-")
	if len(parts) != 3 {
		return Suite{}, false
	}
	encr, okE := encryptions[parts[0]]
	prf, okP := prfs[parts[1]]
	group, okG := groups[parts[2]]
	return Suite{name, encr, prf, group}, okE && okP && okG
}

// ciphersOf lists the encryptions of suites, each once, in their order.
func ciphersOf(suites []Suite) (out []esp.Algorithm) {
	seen := map[esp.Algorithm]bool{}
	for _, s := range suites {
		if !seen[s.encr] {
			seen[s.encr] = true
			out = append(out, s.encr)
		}
	}
	return out
}

// groupsOf lists the groups of suites, each once, in their order.
func groupsOf(suites []Suite) (out []uint16) {
	for _, s := range suites {
		if !slices.Contains(out, s.group) {
			out = append(out, s.group)
		}
	}
	return out
}
