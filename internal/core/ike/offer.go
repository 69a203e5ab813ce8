package ike

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"yellowlantern/internal/core/algorithm"
)

// Offer is what a device's first message shows of it (RFC 7296 §1.2). What it does not show (who it is, how it logs in, what it asks for,
// whether it moves) is encrypted in the messages behind it.
type Offer struct {
	SPI       string          `json:"spi"`
	Proposals []algorithm.Set `json:"proposals" nullable:"false" doc:"What it offers, by proposal."`
	Unknown   []string        `json:"unknown,omitempty" nullable:"false" doc:"What it offers beside that is not carried out here."`
	Group     string          `json:"group" doc:"With which key exchange it begins."`
	Cookie    bool            `json:"cookie,omitempty" doc:"It was asked for a cookie before."`
	Parts     bool            `json:"parts" doc:"It takes IKE messages in parts (RFC 7383)."`
	NAT       bool            `json:"nat" doc:"It looks for translations on the way."`
	Further   bool            `json:"further" doc:"It can exchange additional keys (RFC 9242)."`
	Follows   bool            `json:"follows" doc:"It goes to another gateway where it is sent on (RFC 5685)."`
	Hashes    []string        `json:"hashes" nullable:"false" doc:"By which hashes it takes signatures (RFC 7427); none: it knows only the older methods."`
	Vendors   []string        `json:"vendors,omitempty" nullable:"false" doc:"Its vendor IDs, hexadecimal."`

	offered []proposal
	group   uint16
}

// ErrNoOffer is for a message that is no first one of a device's.
var ErrNoOffer = errors.New("ike: it is no request of IKE_SA_INIT")

// ReadOffer reads a device's first message. Errors say what of it cannot be read.
func ReadOffer(data []byte) (o Offer, err error) {
	m, err := parseMessage(data)
	if err != nil {
		return o, err
	}
	if m.exchange != ikeSAInit || m.response() || m.spiR != 0 {
		return o, ErrNoOffer
	}
	body, _ := m.find(plSA)
	if o.offered, err = parseSA(body); err != nil {
		return o, fmt.Errorf("%w: its proposals cannot be read", err)
	}
	ke, ok, err := m.keyExchange()
	if err != nil || !ok {
		return o, fmt.Errorf("%w: it has no key exchange", errMalformed)
	}
	o.SPI, o.group, o.Group = fmt.Sprintf("%016x", m.spiI), ke.group, transform{kind: tDH, id: ke.group}.String()
	for _, p := range o.offered {
		var set algorithm.Set
		for _, t := range p.transforms {
			a, known := algorithm.Numbered(algorithm.Kind(t.kind), t.id, t.keyLen)
			switch {
			case known && t.kind != tESN:
				list := set.Kind(a.Kind)
				*list = append(*list, a.Name)
			case t.kind >= tADDKE1 && t.kind <= tADDKE7 && t.id == 0: // none of them will do
			case !slices.Contains(o.Unknown, t.String()):
				o.Unknown = append(o.Unknown, t.String())
			}
		}
		o.Proposals = append(o.Proposals, set)
	}
	has := func(n notifyType) bool { _, ok := m.notified(n); return ok }
	o.Cookie, o.Parts, o.NAT, o.Further, o.Follows = has(nCookie), has(nFragments), has(nNATSource), has(nIntermediate), has(nFollows)
	o.Hashes = []string{}
	for n, word := range map[uint]string{
		1: "SHA-1", hashSHA256: "SHA2-256", hashSHA384: "SHA2-384", hashSHA512: "SHA2-512", hashIdentity: "Ed25519's own",
	} {
		if hashesIn(m).has(n) {
			o.Hashes = append(o.Hashes, word)
		}
	}
	slices.Sort(o.Hashes)
	for _, p := range m.payloads {
		if p.kind == plVendor {
			o.Vendors = append(o.Vendors, hex.EncodeToString(p.body))
		}
	}
	return o, nil
}

// Answered tells whether, and how, a side of a policy would answer an offer: again that it first asks for another group.
func (p Policy) Answered(o Offer) (suite string, again, ok bool) {
	if !o.Further {
		p.additional = nil
	}
	_, s, ok := chooseIKE(o.offered, p, nil)
	if !ok {
		return "", false, false
	}
	return s.String(), s.group != o.group, true
}
