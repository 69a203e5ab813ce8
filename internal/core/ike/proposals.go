package ike

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"

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

	encrGCM16                    = 20 // AES-GCM with a 16-octet ICV, RFC 5282 and RFC 4106
	encrChaCha20Poly1305         = 28 // RFC 7634
	prfHMACSHA256        prfKind = 5  // RFC 4868
	prfHMACSHA384        prfKind = 6
	prfHMACSHA512        prfKind = 7
	integNone                    = 0
	dhNone                       = 0
	groupP256                    = 19 // RFC 5903
	groupP384                    = 20
	groupP521                    = 21
	groupX25519                  = 31 // RFC 8031
	esnNone                      = 0

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

// encryption is the transform of an algorithm.
func encryption(a esp.Algorithm) transform {
	switch a {
	case esp.AES128GCM:
		return transform{kind: tEncr, id: encrGCM16, keyLen: 128}
	case esp.ChaCha20Poly1305:
		return transform{kind: tEncr, id: encrChaCha20Poly1305, keyLen: 0}
	}
	return transform{kind: tEncr, id: encrGCM16, keyLen: 256}
}

// ikeProposals offers suites for the IKE SA: those that differ in the group only share a proposal.
func ikeProposals(suites []Suite, spi []byte) (out []proposal) {
	type sort struct {
		encr esp.Algorithm
		prf  prfKind
	}
	at := map[sort]int{}
	for _, s := range suites {
		i, seen := at[sort{s.encr, s.prf}]
		if !seen {
			i = len(out)
			at[sort{s.encr, s.prf}] = i
			out = append(out, proposal{uint8(i + 1), protoIKE, spi, []transform{encryption(s.encr), {kind: tPRF, id: uint16(s.prf)}}})
		}
		out[i].transforms = append(out[i].transforms, transform{kind: tDH, id: s.group})
	}
	return out
}

// espProposal offers algorithms for the Child SA.
func espProposal(spi []byte, ciphers []esp.Algorithm) proposal {
	p := proposal{number: 1, protocol: protoESP, spi: spi}
	for _, a := range ciphers {
		p.transforms = append(p.transforms, encryption(a))
	}
	p.transforms = append(p.transforms, transform{kind: tESN, id: esnNone})
	return p
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
	kinds := []uint8{tEncr, tPRF, tInteg, tDH}
	if p.protocol == protoESP {
		kinds = []uint8{tEncr, tInteg, tDH, tESN}
	}
	return !slices.ContainsFunc(p.transforms, func(t transform) bool { return !slices.Contains(kinds, t.kind) })
}

// chooseIKE picks the first of our suites that some proposal offers; the answer names just what was chosen. spi is ours where an IKE
// SA is renewed.
func chooseIKE(offered []proposal, suites []Suite, spi []byte) (proposal, Suite, bool) {
	for _, s := range suites {
		want := ikeProposals([]Suite{s}, spi)[0]
		for _, p := range offered {
			if p.protocol == protoIKE && p.understood() && len(p.spi) == len(spi) && p.allows(tInteg, integNone) && p.hasAll(want) {
				want.number = p.number
				return want, s, true
			}
		}
	}
	return proposal{}, Suite{}, false
}

// chooseESP picks the first of our algorithms, and of them the first of the groups, that some proposal offers. dhNone among the groups
// stands for no key exchange.
func chooseESP(offered []proposal, ours []byte, ciphers []esp.Algorithm, groups []uint16) (proposal, esp.Algorithm, uint16, bool) {
	for _, a := range ciphers {
		for _, group := range groups {
			want := espProposal(ours, []esp.Algorithm{a})
			if group != dhNone {
				want.transforms = append(want.transforms, transform{kind: tDH, id: group})
			}
			for _, p := range offered {
				if p.protocol == protoESP && p.understood() && len(p.spi) == 4 && p.allows(tInteg, integNone) &&
					(group != dhNone || p.allows(tDH, dhNone)) && p.hasAll(want) {
					want.number = p.number
					return want, a, group, true
				}
			}
		}
	}
	return proposal{}, 0, dhNone, false
}

func (p proposal) hasAll(want proposal) bool {
	return !slices.ContainsFunc(want.transforms, func(t transform) bool { return !p.has(t) })
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

// transformNames are by type, identifier and key length.
var transformNames = map[[3]uint16]string{
	{tEncr, 12, 128}: "AES-128-CBC", {tEncr, 12, 192}: "AES-192-CBC", {tEncr, 12, 256}: "AES-256-CBC", {tEncr, 3, 0}: "3DES",
	{tEncr, 20, 128}: "AES-128-GCM", {tEncr, 20, 256}: "AES-256-GCM", {tEncr, 28, 0}: "ChaCha20-Poly1305",
	{tPRF, 2, 0}: "PRF HMAC-SHA1", {tPRF, 5, 0}: "PRF HMAC-SHA2-256", {tPRF, 6, 0}: "PRF HMAC-SHA2-384", {tPRF, 7, 0}: "PRF HMAC-SHA2-512",
	{tInteg, 0, 0}: "no separate integrity", {tInteg, 2, 0}: "HMAC-SHA1-96", {tInteg, 12, 0}: "HMAC-SHA2-256-128", {tInteg, 13, 0}: "HMAC-SHA2-384-192", {tInteg, 14, 0}: "HMAC-SHA2-512-256",
	{tDH, 2, 0}: "1024-bit MODP", {tDH, 14, 0}: "2048-bit MODP", {tDH, 15, 0}: "3072-bit MODP", {tDH, 16, 0}: "4096-bit MODP",
	{tDH, 19, 0}: "P-256", {tDH, 20, 0}: "P-384", {tDH, 21, 0}: "P-521", {tDH, 31, 0}: "X25519", {tDH, 35, 0}: "ML-KEM-512", {tDH, 36, 0}: "ML-KEM-768",
	{tESN, 0, 0}: "no ESN", {tESN, 1, 0}: "ESN",
}

func (t transform) String() string {
	if name, ok := transformNames[[3]uint16{uint16(t.kind), t.id, t.keyLen}]; ok {
		return name
	}
	kind := map[uint8]string{tEncr: "encryption", tPRF: "PRF", tInteg: "integrity", tDH: "group", tESN: "ESN"}[t.kind]
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

// describeSuites lists what we want, in the same words.
func describeSuites(suites []Suite) string {
	return describe(ikeProposals(suites, nil))
}
