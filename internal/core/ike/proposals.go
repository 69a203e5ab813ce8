package ike

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/esp"
)

// Protocol identifiers (RFC 7296 §3.3.1).
const (
	protoIKE = 1
	protoAH  = 2
	protoESP = 3
)

// Transform types and identifiers (RFC 7296 §3.3.2, IANA "IKEv2 Parameters").
const (
	tEncr  = 1
	tPRF   = 2
	tInteg = 3
	tDH    = 4
	tESN   = 5

	encr3DES                     = 3  // RFC 2451
	encrCBC                      = 12 // AES-CBC, RFC 3602
	encrGCM16                    = 20 // AES-GCM with a 16-octet ICV, RFC 5282 and RFC 4106
	encrChaCha20Poly1305         = 28 // RFC 7634
	prfHMACSHA1          prfKind = 2  // RFC 2104
	prfHMACSHA256        prfKind = 5  // RFC 4868
	prfHMACSHA384        prfKind = 6
	prfHMACSHA512        prfKind = 7
	integNone                    = 0
	integSHA1                    = 2  // RFC 2404
	integSHA256                  = 12 // RFC 4868
	integSHA384                  = 13
	integSHA512                  = 14
	dhNone                       = 0
	groupMODP1024                = 2  // RFC 7296 appendix B.2
	groupMODP2048                = 14 // RFC 3526
	groupMODP3072                = 15
	groupMODP4096                = 16
	groupMODP6144                = 17
	groupMODP8192                = 18
	groupP256                    = 19 // RFC 5903
	groupP384                    = 20
	groupP521                    = 21
	groupX25519                  = 31 // RFC 8031
	esnNone                      = 0
	esnExtended                  = 1

	attrKeyLength = 14
)

type transform struct {
	kind   uint8
	id     uint16
	keyLen uint16 // bits; 0: none given
	odd    bool   // it has an attribute that is not known here, so it cannot be chosen (RFC 7296 §3.3.6)
}

type proposal struct {
	number     uint8
	protocol   uint8
	spi        []byte
	transforms []transform
}

// protection are the transforms of what protects packets or messages: an encryption, and an integrity where it has none of its own.
func protection(a esp.Algorithm) (out []transform) {
	for number, e := range encryptions {
		if e == a.Encryption {
			out = append(out, transform{kind: tEncr, id: number[0], keyLen: number[1]})
		}
	}
	for number, i := range integrities {
		if i == a.Integrity {
			out = append(out, transform{kind: tInteg, id: number})
		}
	}
	return out
}

// proposals offers a policy: encryptions that have their own integrity in one proposal, the others, with integrities, in another (RFC 5282
// §8). more are the transforms of all of them.
func (p Policy) proposals(protocol uint8, spi []byte, more ...transform) (out []proposal) {
	for _, own := range []bool{true, false} {
		var ts []transform
		for _, e := range p.encryption {
			if e.Own() == own {
				ts = append(ts, protection(esp.Algorithm{Encryption: e})...)
			}
		}
		if len(ts) == 0 || !own && len(p.integrity) == 0 {
			continue
		}
		if !own {
			for _, i := range p.integrity {
				ts = append(ts, protection(esp.Algorithm{Integrity: i})...)
			}
		}
		out = append(out, proposal{uint8(len(out) + 1), protocol, spi, append(ts, more...)})
	}
	if len(out) == 2 && !p.encryption[0].Own() { // what is preferred comes first
		out[0], out[1] = out[1], out[0]
		out[0].number, out[1].number = 1, 2
	}
	return out
}

// ikeProposals offers a policy for the IKE SA.
func ikeProposals(p Policy, spi []byte) []proposal {
	var more []transform
	for _, prf := range p.prfs {
		more = append(more, transform{kind: tPRF, id: uint16(prf)})
	}
	for _, group := range p.groups {
		more = append(more, transform{kind: tDH, id: group})
	}
	more = append(more, p.furthers()...)
	return p.proposals(protoIKE, spi, more...)
}

// espProposals offers it for the Child SA, with a key exchange of a group unless that is dhNone.
func espProposals(p Policy, spi []byte, group uint16) []proposal {
	var more []transform
	for _, esn := range p.numbers() {
		more = append(more, transform{kind: tESN, id: esn})
	}
	if group != dhNone {
		more = append(more, transform{kind: tDH, id: group})
	}
	return p.proposals(protoESP, spi, more...)
}

func (p proposal) has(t transform) bool { return slices.Contains(p.transforms, t) }

// allows tells whether a type may be left unset: not offered at all, or offered with the given identifier.
func (p proposal) allows(kind uint8, id uint16) bool {
	offered := false
	for _, t := range p.transforms {
		if t.kind == kind {
			offered = true
			if t.id == id {
				return true
			}
		}
	}
	return !offered
}

// understood tells whether all transforms are of types that are known for the protocol. A proposal with others is unacceptable
// (RFC 7296 §3.3.6).
func (p proposal) understood() bool {
	kinds := []uint8{tEncr, tPRF, tInteg, tDH, tADDKE1}
	if p.protocol == protoESP {
		kinds = []uint8{tEncr, tInteg, tDH, tESN}
	}
	return !slices.ContainsFunc(p.transforms, func(t transform) bool {
		// Further exchanges may be left out where that is offered.
		if t.kind >= tADDKE1 && t.kind <= tADDKE7 && (t.kind > tADDKE1 || p.protocol == protoESP) {
			return !p.allows(t.kind, 0)
		}
		return !slices.Contains(kinds, t.kind)
	})
}

// further picks the additional key exchange; 0: none. ok is false where none will do.
func (p proposal) further(ours Policy) (method uint16, ok bool) {
	for _, method := range ours.additional {
		if p.has(transform{kind: tADDKE1, id: method}) {
			return method, true
		}
	}
	return 0, !ours.demands && p.allows(tADDKE1, 0)
}

// fits tells whether a proposal has a cipher, with its integrity and no other demand.
func (p proposal) fits(a esp.Algorithm) bool {
	return (a.Encryption.Own() && p.allows(tInteg, integNone) || !a.Encryption.Own()) &&
		!slices.ContainsFunc(protection(a), func(t transform) bool { return !p.has(t) })
}

// chooseIKE picks what both sides have, by our order: encryption first, then integrity, PRF and group. The answer names just what was
// chosen. spi is ours where an IKE SA is renewed.
func chooseIKE(offered []proposal, ours Policy, spi []byte) (proposal, Suite, bool) {
	for _, cipher := range ours.ciphers() {
		var fit []proposal
		for _, p := range offered {
			if p.protocol == protoIKE && p.understood() && len(p.spi) == len(spi) && p.fits(cipher) {
				fit = append(fit, p)
			}
		}
		for _, prf := range ours.prfs {
			for _, group := range ours.groups {
				want := []transform{{kind: tPRF, id: uint16(prf)}, {kind: tDH, id: group}}
				for _, p := range fit {
					method, ok := p.further(ours)
					if !ok || !p.has(want[0]) || !p.has(want[1]) {
						continue
					}
					if method != 0 {
						want = append(want, transform{kind: tADDKE1, id: method})
					}
					chosen := proposal{p.number, protoIKE, spi, append(protection(cipher), want...)}
					return chosen, Suite{encr: cipher, prf: prf, group: group, additional: method}, true
				}
			}
		}
	}
	return proposal{}, Suite{}, false
}

// chooseESP picks the first of our algorithms, and of them the first of the groups, that some proposal offers. dhNone among the groups
// stands for no key exchange.
func chooseESP(offered []proposal, spi []byte, ours Policy, groups []uint16) (proposal, esp.Algorithm, uint16, bool) {
	for _, cipher := range ours.ciphers() {
		for _, group := range groups {
			for _, esn := range ours.numbers() {
				want := []transform{{kind: tESN, id: esn}}
				if group != dhNone {
					want = append(want, transform{kind: tDH, id: group})
				}
				for _, p := range offered {
					if p.protocol == protoESP && p.understood() && len(p.spi) == 4 && p.fits(cipher) &&
						(group != dhNone || p.allows(tDH, dhNone)) && p.hasAll(want) {
						chosen := proposal{p.number, protoESP, spi, append(protection(cipher), want...)}
						cipher.ESN = esn == esnExtended
						return chosen, cipher, group, true
					}
				}
			}
		}
	}
	return proposal{}, esp.Algorithm{}, dhNone, false
}

func (p proposal) hasAll(want []transform) bool {
	return !slices.ContainsFunc(want, func(t transform) bool { return !p.has(t) })
}

func saPayload(ps ...proposal) payload {
	return payload{kind: plSA, body: build(func(b *cryptobyte.Builder) {
		for i, p := range ps {
			more := uint8(2)
			if i == len(ps)-1 {
				more = 0
			}
			inner := build(func(b *cryptobyte.Builder) {
				b.AddUint8(p.number)
				b.AddUint8(p.protocol)
				b.AddUint8(uint8(len(p.spi)))
				b.AddUint8(uint8(len(p.transforms)))
				b.AddBytes(p.spi)
				for j, t := range p.transforms {
					t.marshal(b, j == len(p.transforms)-1)
				}
			})
			b.AddUint8(more)
			b.AddUint8(0)
			b.AddUint16(uint16(len(inner) + 4))
			b.AddBytes(inner)
		}
	})}
}

func (t transform) marshal(b *cryptobyte.Builder, last bool) {
	more, length := uint8(3), uint16(8)
	if last {
		more = 0
	}
	if t.keyLen != 0 {
		length = 12
	}
	b.AddUint8(more)
	b.AddUint8(0)
	b.AddUint16(length)
	b.AddUint8(t.kind)
	b.AddUint8(0)
	b.AddUint16(t.id)
	if t.keyLen != 0 {
		b.AddUint16(0x8000 | attrKeyLength)
		b.AddUint16(t.keyLen)
	}
}

func parseSA(body []byte) ([]proposal, error) {
	s := cryptobyte.String(body)
	var out []proposal
	for !s.Empty() {
		var more, spiLen, count uint8
		var length uint16
		if !s.ReadUint8(&more) || !s.Skip(1) || !s.ReadUint16(&length) || length < 8 {
			return nil, errMalformed
		}
		var inner cryptobyte.String
		if !s.ReadBytes((*[]byte)(&inner), int(length)-4) {
			return nil, errMalformed
		}
		var p proposal
		if !inner.ReadUint8(&p.number) || !inner.ReadUint8(&p.protocol) || !inner.ReadUint8(&spiLen) ||
			!inner.ReadUint8(&count) || !inner.ReadBytes(&p.spi, int(spiLen)) {
			return nil, errMalformed
		}
		for range count {
			t, err := parseTransform(&inner)
			if err != nil {
				return nil, err
			}
			p.transforms = append(p.transforms, t)
		}
		if !inner.Empty() || (more == 0) != s.Empty() {
			return nil, errMalformed
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		return nil, errMalformed
	}
	return out, nil
}

func parseTransform(s *cryptobyte.String) (transform, error) {
	var t transform
	var length uint16
	if !s.Skip(2) || !s.ReadUint16(&length) || length < 8 || !s.ReadUint8(&t.kind) || !s.Skip(1) || !s.ReadUint16(&t.id) {
		return t, errMalformed
	}
	var attrs cryptobyte.String
	if !s.ReadBytes((*[]byte)(&attrs), int(length)-8) {
		return t, errMalformed
	}
	for !attrs.Empty() {
		var kind, value uint16
		if !attrs.ReadUint16(&kind) || !attrs.ReadUint16(&value) {
			return t, errMalformed
		}
		if kind == 0x8000|attrKeyLength {
			t.keyLen = value
			continue
		}
		t.odd = true
		if kind&0x8000 == 0 && !attrs.Skip(int(value)) {
			return t, errMalformed
		}
	}
	return t, nil
}

// otherNames are of what is not carried out, or is none, by type, identifier and key length; IANA "IKEv2 Parameters".
var otherNames = map[[3]uint16]string{
	{tEncr, 2, 0}: "DES", {tEncr, 11, 0}: "NULL", {tEncr, 12, 192}: "AES-192-CBC", {tEncr, 13, 128}: "AES-128-CTR", {tEncr, 13, 256}: "AES-256-CTR",
	{tEncr, 20, 192}: "AES-192-GCM-16", {tEncr, 18, 256}: "AES-256-GCM-8", {tEncr, 19, 256}: "AES-256-GCM-12", {tEncr, 18, 128}: "AES-128-GCM-8",
	{tPRF, 1, 0}: "PRF-HMAC-MD5", {tPRF, 4, 0}: "PRF-AES128-XCBC", {tPRF, 8, 0}: "PRF-AES128-CMAC",
	{tInteg, 0, 0}: "no separate integrity", {tInteg, 1, 0}: "HMAC-MD5-96", {tInteg, 5, 0}: "AES-XCBC-96", {tInteg, 8, 0}: "AES-CMAC-96",
	{tDH, 1, 0}: "MODP-768", {tDH, 5, 0}: "MODP-1536", {tDH, 22, 0}: "MODP-1024-160", {tDH, 23, 0}: "MODP-2048-224", {tDH, 24, 0}: "MODP-2048-256",
	{tDH, 25, 0}: "P-192", {tDH, 26, 0}: "P-224", {tDH, 32, 0}: "X448", {tDH, 35, 0}: "ML-KEM-512", {tDH, 36, 0}: "ML-KEM-768", {tDH, 37, 0}: "ML-KEM-1024",
	{tADDKE1, 0, 0}: "no additional exchange", {tADDKE1, 35, 0}: "ML-KEM-512",
	{tESN, 0, 0}: "no ESN", {tESN, 1, 0}: "ESN",
}

func (t transform) String() string {
	if a, ok := algorithm.Numbered(algorithm.Kind(t.kind), t.id, t.keyLen); ok && t.kind != tESN {
		return a.Name
	}
	if name, ok := otherNames[[3]uint16{uint16(t.kind), t.id, t.keyLen}]; ok {
		return name
	}
	kind := map[uint8]string{
		tEncr: "encryption", tPRF: "PRF", tInteg: "integrity", tDH: "group", tESN: "ESN", tADDKE1: "additional exchange",
	}[t.kind]
	if t.keyLen != 0 {
		return fmt.Sprintf("%s %d (%d bits)", kind, t.id, t.keyLen)
	}
	return fmt.Sprintf("%s %d", kind, t.id)
}

// describe lists what was offered, for the journal.
func describe(ps []proposal) string {
	var out []string
	for _, p := range ps[:min(len(ps), 8)] {
		var names []string
		for _, t := range p.transforms[:min(len(p.transforms), 24)] {
			names = append(names, t.String())
		}
		out = append(out, strings.Join(names, ", "))
	}
	return strings.Join(out, "; or ")
}

// describePolicy lists what we want, in the same words.
func describePolicy(p Policy) string {
	return describe(ikeProposals(p, nil))
}
