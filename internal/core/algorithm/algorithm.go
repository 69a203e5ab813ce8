// Package algorithm names the algorithms of IKEv2 and ESP in words, each tied to its name and number in IANA's registry "Internet Key
// Exchange Version 2 (IKEv2) Parameters" (RFC 7296 §3.3.2; which to use: RFC 8247 and RFC 8221), and gives levels of them.
package algorithm

import (
	"slices"
	"strings"
)

// Kind is a transform type (RFC 7296 §3.3.2).
type Kind uint8

// Kinds.
const (
	Encryption Kind = 1
	PRF        Kind = 2
	Integrity  Kind = 3
	Group      Kind = 4
	Additional Kind = 6 // a key exchange beside that by group (RFC 9370)
)

func (k Kind) String() string {
	return map[Kind]string{Encryption: "encryption", PRF: "prf", Integrity: "integrity", Group: "groups", Additional: "additional"}[k]
}

// Levels.
const (
	Strict = "strict" // encryption that protects integrity itself, and groups on curves
	Broad  = "broad"  // and AES-CBC with HMAC-SHA2, and MODP-2048
	Legacy = "legacy" // and what no longer withstands attacks, for devices that know nothing else
)

// Algorithm is one of them.
type Algorithm struct {
	Name   string // in words
	Kind   Kind
	Number uint16
	Bits   uint16 // of the key, where the registry leaves them open
	Entry  string // of the registry
	Source string // RFC
	Level  string // the first level that has it; empty: by name alone
	Was    string // the word of versions before 0.11
	// Own tells that an encryption protects integrity itself.
	Own bool
	// Weak is why it must be accepted by name.
	Weak string
}

// All are the algorithms that are carried out, those of a kind in order of preference.
var All = []Algorithm{
	{Name: "AES-256-GCM-16", Kind: Encryption, Number: 20, Bits: 256, Entry: "ENCR_AES_GCM_16", Source: "RFC 4106, RFC 5282", Level: Strict, Was: "aes256gcm", Own: true},
	{Name: "AES-128-GCM-16", Kind: Encryption, Number: 20, Bits: 128, Entry: "ENCR_AES_GCM_16", Source: "RFC 4106, RFC 5282", Level: Strict, Was: "aes128gcm", Own: true},
	{Name: "ChaCha20-Poly1305", Kind: Encryption, Number: 28, Entry: "ENCR_CHACHA20_POLY1305", Source: "RFC 7634", Level: Strict, Was: "chacha20poly1305", Own: true},
	{Name: "AES-256-CBC", Kind: Encryption, Number: 12, Bits: 256, Entry: "ENCR_AES_CBC", Source: "RFC 3602", Level: Broad},
	{Name: "AES-128-CBC", Kind: Encryption, Number: 12, Bits: 128, Entry: "ENCR_AES_CBC", Source: "RFC 3602", Level: Broad},
	{Name: "3DES-CBC", Kind: Encryption, Number: 3, Entry: "ENCR_3DES", Source: "RFC 2451", Level: Legacy, Weak: "blocks of 64 bits give plaintext away in long sessions (RFC 8221 §5), and it is slow"},

	{Name: "HMAC-SHA2-256-128", Kind: Integrity, Number: 12, Entry: "AUTH_HMAC_SHA2_256_128", Source: "RFC 4868", Level: Broad},
	{Name: "HMAC-SHA2-384-192", Kind: Integrity, Number: 13, Entry: "AUTH_HMAC_SHA2_384_192", Source: "RFC 4868", Level: Broad},
	{Name: "HMAC-SHA2-512-256", Kind: Integrity, Number: 14, Entry: "AUTH_HMAC_SHA2_512_256", Source: "RFC 4868", Level: Broad},
	{Name: "HMAC-SHA1-96", Kind: Integrity, Number: 2, Entry: "AUTH_HMAC_SHA1_96", Source: "RFC 2404", Level: Legacy, Weak: "SHA-1 is broken for signatures and on its way out here too (RFC 8247 §2.3)"},

	{Name: "PRF-HMAC-SHA2-256", Kind: PRF, Number: 5, Entry: "PRF_HMAC_SHA2_256", Source: "RFC 4868", Level: Strict, Was: "sha256"},
	{Name: "PRF-HMAC-SHA2-384", Kind: PRF, Number: 6, Entry: "PRF_HMAC_SHA2_384", Source: "RFC 4868", Level: Strict, Was: "sha384"},
	{Name: "PRF-HMAC-SHA2-512", Kind: PRF, Number: 7, Entry: "PRF_HMAC_SHA2_512", Source: "RFC 4868", Level: Strict, Was: "sha512"},
	{Name: "PRF-HMAC-SHA1", Kind: PRF, Number: 2, Entry: "PRF_HMAC_SHA1", Source: "RFC 2104", Level: Legacy, Weak: "SHA-1 is on its way out (RFC 8247 §2.2)"},

	{Name: "X25519", Kind: Group, Number: 31, Entry: "Curve25519", Source: "RFC 8031", Level: Strict, Was: "x25519"},
	{Name: "P-256", Kind: Group, Number: 19, Entry: "256-bit random ECP group", Source: "RFC 5903", Level: Strict, Was: "p256"},
	{Name: "P-384", Kind: Group, Number: 20, Entry: "384-bit random ECP group", Source: "RFC 5903", Level: Strict, Was: "p384"},
	{Name: "P-521", Kind: Group, Number: 21, Entry: "521-bit random ECP group", Source: "RFC 5903", Level: Strict, Was: "p521"},
	{Name: "MODP-2048", Kind: Group, Number: 14, Entry: "2048-bit MODP Group", Source: "RFC 3526", Level: Broad},
	{Name: "MODP-3072", Kind: Group, Number: 15, Entry: "3072-bit MODP Group", Source: "RFC 3526"},
	{Name: "MODP-4096", Kind: Group, Number: 16, Entry: "4096-bit MODP Group", Source: "RFC 3526"},
	{Name: "MODP-6144", Kind: Group, Number: 17, Entry: "6144-bit MODP Group", Source: "RFC 3526"},
	{Name: "MODP-8192", Kind: Group, Number: 18, Entry: "8192-bit MODP Group", Source: "RFC 3526"},
	{Name: "ML-KEM-768", Kind: Additional, Number: 36, Entry: "ml-kem-768", Source: "FIPS 203, RFC 9370", Level: Strict},
	{Name: "ML-KEM-1024", Kind: Additional, Number: 37, Entry: "ml-kem-1024", Source: "FIPS 203, RFC 9370", Level: Strict},
	{Name: "MODP-1024", Kind: Group, Number: 2, Entry: "1024-bit MODP Group", Source: "RFC 7296 appendix B.2", Level: Legacy, Weak: "whoever has the means of a state computes its keys once for everybody (RFC 8247 §2.4)"},
}

// Named finds an algorithm by its word, or by the one that it had before.
func Named(kind Kind, word string) (Algorithm, bool) {
	i := slices.IndexFunc(All, func(a Algorithm) bool { return a.Kind == kind && (a.Name == word || a.Was != "" && a.Was == word) })
	if i < 0 {
		return Algorithm{}, false
	}
	return All[i], true
}

// Numbered finds an algorithm by its number in the registry.
func Numbered(kind Kind, number, bits uint16) (Algorithm, bool) {
	i := slices.IndexFunc(All, func(a Algorithm) bool { return a.Kind == kind && a.Number == number && a.Bits == bits })
	if i < 0 {
		return Algorithm{}, false
	}
	return All[i], true
}

// Of a level: its algorithms and those of the levels before it.
func Of(level string, kind Kind) (out []string) {
	order := []string{Strict, Broad, Legacy}
	upTo := slices.Index(order, level)
	for _, a := range All {
		if at := slices.Index(order, a.Level); a.Kind == kind && at >= 0 && at <= upTo {
			out = append(out, a.Name)
		}
	}
	return out
}

// Set is what is offered or accepted: of each kind the words, the preferred first.
type Set struct {
	Encryption []string `json:"encryption,omitempty" nullable:"false"`
	Integrity  []string `json:"integrity,omitempty" nullable:"false"`
	PRF        []string `json:"prf,omitempty" nullable:"false"`
	Groups     []string `json:"groups,omitempty" nullable:"false"`
	Additional []string `json:"additional,omitempty" nullable:"false"` // where both sides have one
}

// OfLevel are all algorithms of a level.
func OfLevel(level string) Set {
	return Set{Of(level, Encryption), Of(level, Integrity), Of(level, PRF), Of(level, Group), Of(level, Additional)}
}

// Kind gives those of a kind.
func (s *Set) Kind(k Kind) *[]string {
	switch k {
	case Encryption:
		return &s.Encryption
	case Integrity:
		return &s.Integrity
	case PRF:
		return &s.PRF
	case Additional:
		return &s.Additional
	}
	return &s.Groups
}

// Kinds are all of them, in the order in which they are told.
var Kinds = []Kind{Encryption, Integrity, PRF, Group, Additional}

// Separate tells whether an encryption among them needs an integrity beside it.
func (s Set) Separate() bool {
	return slices.ContainsFunc(s.Encryption, func(w string) bool { a, ok := Named(Encryption, w); return ok && !a.Own })
}

// Empty tells whether nothing can be agreed on.
func (s Set) Empty() bool {
	usable := slices.ContainsFunc(s.Encryption, func(w string) bool {
		a, ok := Named(Encryption, w)
		return ok && (a.Own || len(s.Integrity) > 0)
	})
	return !usable || len(s.PRF) == 0 || len(s.Groups) == 0
}

// String says them in words.
func (s Set) String() string {
	var parts []string
	for _, k := range Kinds {
		if k == Integrity && !s.Separate() {
			continue
		}
		if words := *s.Kind(k); len(words) > 0 {
			parts = append(parts, strings.Join(words, ", "))
		}
	}
	return strings.Join(parts, "; ")
}

// Lacks gives, of each kind of which two sides have none in common, what the first would have to add for the second: its best, of what is
// not weak if there is such. Nothing: they agree.
func (s Set) Lacks(other Set) (out Set) {
	for _, k := range Kinds {
		ours, theirs := *s.Kind(k), *other.Kind(k)
		switch k {
		case Additional:
			continue // nobody needs one
		case Integrity:
			continue // with the encryption
		case Encryption:
			if e, i := protection(s, other); e != "" {
				out.Encryption = append(out.Encryption, e)
				if i != "" {
					out.Integrity = append(out.Integrity, i)
				}
			}
			continue
		}
		if w := best(k, ours, theirs); w != "" {
			list := out.Kind(k)
			*list = append(*list, w)
		}
	}
	return out
}

// None tells whether a set is empty.
func (s Set) None() bool {
	return len(s.Encryption)+len(s.Integrity)+len(s.PRF)+len(s.Groups) == 0
}

// protection is the encryption, and integrity where it needs one, that would have to be added; an encryption that is there already may need
// an integrity alone.
func protection(s, other Set) (encryption, integrity string) {
	common := func(a, b []string) bool {
		return slices.ContainsFunc(a, func(w string) bool { return slices.Contains(b, w) })
	}
	integrities := common(s.Integrity, other.Integrity)
	for _, w := range s.Encryption {
		if a, ok := Named(Encryption, w); ok && slices.Contains(other.Encryption, w) && (a.Own || integrities) {
			return "", ""
		}
	}
	encryption = best(Encryption, nil, other.Encryption)
	if a, ok := Named(Encryption, encryption); ok && !a.Own && !integrities {
		integrity = best(Integrity, nil, other.Integrity)
	}
	return encryption, integrity
}

// best is the first of theirs that is not weak, or else the first; "" where something is in common.
func best(k Kind, ours, theirs []string) string {
	if slices.ContainsFunc(theirs, func(w string) bool { return slices.Contains(ours, w) }) {
		return ""
	}
	for _, w := range theirs {
		if a, ok := Named(k, w); ok && a.Weak == "" {
			return w
		}
	}
	if len(theirs) == 0 {
		return ""
	}
	return theirs[0]
}

// Offers reads what a device offered from how it is told: words with commas between, one offer after the other with "; or " between. Words
// that are none of ours say nothing.
func Offers(text string) (out []Set) {
	for _, offer := range strings.Split(text, "; or ") {
		var s Set
		for _, w := range strings.Split(offer, ", ") {
			for _, k := range Kinds {
				if a, ok := Named(k, w); ok && a.Name == w {
					list := s.Kind(k)
					*list = append(*list, w)
				}
			}
		}
		if !s.None() {
			out = append(out, s)
		}
	}
	return out
}

// Least is the smallest addition that lets one of several offers in, of those that are not weak if there is such; ok is false where none is
// known of that would.
func (s Set) Least(offers []Set) (add Set, ok bool) {
	best := 0
	for _, o := range offers {
		lacks := s.Lacks(o)
		cost := 0
		for _, k := range Kinds {
			for _, w := range *lacks.Kind(k) {
				if cost++; isWeak(k, w) {
					cost += 100
				}
			}
		}
		if !ok || cost < best {
			add, ok, best = lacks, true, cost
		}
	}
	return add, ok
}

func isWeak(k Kind, w string) bool {
	a, ok := Named(k, w)
	return ok && a.Weak != ""
}

// Weak tells whether one of them no longer withstands attacks.
func (s Set) Weak() bool {
	return slices.ContainsFunc(Kinds, func(k Kind) bool {
		return slices.ContainsFunc(*s.Kind(k), func(w string) bool { return isWeak(k, w) })
	})
}
