package ike

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/esp"
)

// prfKind is a pseudo-random function by its transform identifier (RFC 4868, RFC 7296 §3.3.2).
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
	case prfHMACSHA1:
		return sha1.New
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
	case prfHMACSHA1:
		return sha1.Size
	}
	return sha256.Size
}

// plus is prf+ (RFC 7296 §2.13).
func (k prfKind) plus(key, seed []byte, n int) []byte {
	out := make([]byte, 0, n+k.size())
	mac := hmac.New(k.hash(), key) // which keeps what it made of the key
	for i := byte(1); len(out) < n; i++ {
		mac.Reset()
		if i > 1 {
			mac.Write(out[len(out)-k.size():])
		}
		mac.Write(seed)
		mac.Write([]byte{i})
		out = mac.Sum(out)
	}
	return out[:n]
}

// Suite is the algorithms that two sides agreed on for an IKE SA.
type Suite struct {
	encr  esp.Algorithm
	prf   prfKind
	group uint16
	// additional is the method of a second key exchange (RFC 9370), of the login that all keys since are made of; 0: there was none.
	additional uint16
}

// String names them, in the words of plans.
func (s Suite) String() string {
	words := make([]string, 0, 5)
	all := append(protection(s.encr), transform{kind: tPRF, id: uint16(s.prf)}, transform{kind: tDH, id: s.group})
	if s.additional != 0 {
		all = append(all, transform{kind: tADDKE1, id: s.additional})
	}
	for _, t := range all {
		words = append(words, t.String())
	}
	return strings.Join(words, ", ")
}

// Policy is what a side offers or accepts: of each kind of algorithm some, the preferred first. Traffic is protected by the same.
type Policy struct {
	encryption []esp.Encryption
	integrity  []esp.Integrity // beside an encryption that has none of its own
	prfs       []prfKind
	groups     []uint16
	additional []uint16 // key exchanges beside that by group, where both sides have one
	demands    bool     // there must be one
	short      bool     // sequence numbers of packets have 32 bits, never 64
}

// Legible is the policy without what packet analysers cannot follow: extended sequence numbers, and keys that change within a login, where
// they need not.
func (p Policy) Legible() Policy {
	if p.short = true; !p.demands {
		p.additional = nil
	}
	return p
}

// Demanding is the policy under which there must be an additional key exchange.
func (p Policy) Demanding() Policy {
	p.demands = true
	return p
}

// once is the policy without additional key exchanges: keys that are renewed are made of those before, and so of what was exchanged then.
func (p Policy) once() Policy {
	p.additional, p.demands = nil, false
	return p
}

// furthers are the transforms of additional key exchanges that are offered, and of none where that will do.
func (p Policy) furthers() (out []transform) {
	for _, method := range p.additional {
		out = append(out, transform{kind: tADDKE1, id: method})
	}
	if len(out) > 0 && !p.demands {
		out = append(out, transform{kind: tADDKE1})
	}
	return out
}

// numbers are the kinds of sequence numbers, the preferred first.
func (p Policy) numbers() []uint16 {
	if p.short {
		return []uint16{esnNone}
	}
	return []uint16{esnExtended, esnNone}
}

// PolicyOf takes algorithms by their words. Errors name the word that is none.
func PolicyOf(set algorithm.Set) (p Policy, err error) {
	for _, kind := range algorithm.Kinds {
		for _, word := range *set.Kind(kind) {
			a, ok := algorithm.Named(kind, word)
			if !ok {
				return p, fmt.Errorf("there is no algorithm %q", word)
			}
			switch kind {
			case algorithm.Encryption:
				p.encryption = append(p.encryption, encryptions[[2]uint16{a.Number, a.Bits}])
			case algorithm.Integrity:
				p.integrity = append(p.integrity, integrities[a.Number])
			case algorithm.Additional:
				p.additional = append(p.additional, a.Number)
			case algorithm.PRF:
				p.prfs = append(p.prfs, prfKind(a.Number))
			default:
				p.groups = append(p.groups, a.Number)
			}
		}
	}
	if len(p.ciphers()) == 0 || len(p.prfs) == 0 || len(p.groups) == 0 {
		return p, errors.New("no encryption (with an integrity, where it has none of its own), PRF or group is named")
	}
	return p, nil
}

// Level is the policy of a level.
func Level(name string) Policy {
	p, err := PolicyOf(algorithm.OfLevel(name))
	if err != nil {
		panic(err) // levels are made of what there is
	}
	return p
}

// encryptions and integrities are what protects, by number and length of key in the registry.
var (
	encryptions = map[[2]uint16]esp.Encryption{
		{encrGCM16, 256}: esp.EncrAES256GCM, {encrGCM16, 128}: esp.EncrAES128GCM, {encrChaCha20Poly1305, 0}: esp.EncrChaCha20Poly1305,
		{encrCBC, 256}: esp.EncrAES256CBC, {encrCBC, 128}: esp.EncrAES128CBC, {encr3DES, 0}: esp.Encr3DES,
	}
	integrities = map[uint16]esp.Integrity{
		integSHA256: esp.HMACSHA256, integSHA384: esp.HMACSHA384, integSHA512: esp.HMACSHA512, integSHA1: esp.HMACSHA1,
	}
)

// ciphers are the encryptions with their integrities, the preferred first.
func (p Policy) ciphers() (out []esp.Algorithm) {
	for _, e := range p.encryption {
		if e.Own() {
			out = append(out, esp.Algorithm{Encryption: e})
			continue
		}
		for _, i := range p.integrity {
			out = append(out, esp.Algorithm{Encryption: e, Integrity: i})
		}
	}
	return out
}

// Largest is how many octets a packet has at the most once it is sealed, whatever of the policy is agreed on.
func (p Policy) Largest(inner int) (most int) {
	for _, a := range p.ciphers() {
		most = max(most, a.Sealed(inner))
	}
	return most
}

// allows tells whether a suite can be agreed on under the policy.
func (p Policy) allows(s Suite) bool {
	return slices.Contains(p.ciphers(), s.encr) && slices.Contains(p.prfs, s.prf) && slices.Contains(p.groups, s.group) &&
		(s.additional == 0 && !p.demands || slices.Contains(p.additional, s.additional))
}

// renews tells whether a suite is one that a renewal of ours ends at: what a renewal cannot change, an additional key exchange, is no
// reason for one, for it would be one without end.
func (p Policy) renews(s Suite) bool {
	s.additional = 0
	return p.once().allows(s)
}

// lacks tells whether a suite has no additional key exchange where the policy demands one. Nothing later gives it one.
func (p Policy) lacks(s Suite) bool { return p.demands && !slices.Contains(p.additional, s.additional) }

// and is what one of both policies allows, and their mixtures.
func (p Policy) and(o Policy) Policy {
	return Policy{
		joined(p.encryption, o.encryption), joined(p.integrity, o.integrity), joined(p.prfs, o.prfs), joined(p.groups, o.groups),
		joined(p.additional, o.additional), false, o.short,
	}
}

func joined[T comparable](a, b []T) []T {
	out := slices.Clone(a)
	for _, x := range b {
		if !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}
