package foreign

import (
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"
)

// List is a revocation list (RFC 5280 §5) whose signature is its issuer's.
type List struct {
	Number     *big.Int // nil: it has none
	This, Next time.Time
	Entries    int

	of      scope
	revoked map[string]time.Time // by serial, hexadecimal
}

// scope is what a list is about (RFC 5280 §5.2.5): the zero value: all certificates of its issuer.
type scope struct {
	points     []string
	users, cas bool
}

var (
	issuingPoint = asn1.ObjectIdentifier{2, 5, 29, 28}
	deltaBase    = asn1.ObjectIdentifier{2, 5, 29, 27}
	listNumber   = asn1.ObjectIdentifier{2, 5, 29, 20}
	authorityKey = asn1.ObjectIdentifier{2, 5, 29, 35}
	reasonCode   = asn1.ObjectIdentifier{2, 5, 29, 21}
	invalidSince = asn1.ObjectIdentifier{2, 5, 29, 24}
)

// Skew is how far clocks may differ.
const Skew = 5 * time.Minute

// ReadList reads a list, DER or PEM, and holds it against its issuer. Errors say why it cannot be gone by.
func ReadList(b []byte, issuer *x509.Certificate) (*List, error) {
	if block, _ := pem.Decode(b); block != nil {
		if block.Type == "CERTIFICATE" {
			return nil, errors.New("it is a certificate, and no revocation list")
		}
		b = block.Bytes
	}
	raw, err := x509.ParseRevocationList(b)
	if err != nil {
		return nil, fmt.Errorf("it is no revocation list: %w", err)
	}
	if string(raw.RawIssuer) != string(issuer.RawSubject) {
		return nil, fmt.Errorf("it is the list of %q, not of %q", raw.Issuer.String(), issuer.Subject.String())
	}
	if issuer.KeyUsage != 0 && issuer.KeyUsage&x509.KeyUsageCRLSign == 0 {
		return nil, fmt.Errorf("%q may not sign lists", issuer.Subject.CommonName)
	}
	if err := raw.CheckSignatureFrom(issuer); err != nil {
		return nil, fmt.Errorf("its signature is not that of %q: %w", issuer.Subject.CommonName, err)
	}
	if raw.NextUpdate.IsZero() {
		return nil, errors.New("it does not say until when it may be gone by")
	}
	l := &List{Number: raw.Number, This: raw.ThisUpdate, Next: raw.NextUpdate, Entries: len(raw.RevokedCertificateEntries)}
	for _, e := range raw.Extensions {
		switch {
		case e.Id.Equal(deltaBase):
			return nil, errors.New("it holds only what changed since another list, and whole ones are wanted")
		case e.Id.Equal(issuingPoint):
			if l.of, err = readScope(e.Value); err != nil {
				return nil, err
			}
		case e.Critical && !e.Id.Equal(listNumber) && !e.Id.Equal(authorityKey):
			return nil, fmt.Errorf("it has an extension that is not known here, %s, and must be", e.Id)
		}
	}
	l.revoked = make(map[string]time.Time, len(raw.RevokedCertificateEntries))
	for _, r := range raw.RevokedCertificateEntries {
		for _, e := range r.Extensions {
			if e.Critical && !e.Id.Equal(reasonCode) && !e.Id.Equal(invalidSince) {
				return nil, errors.New("it lists certificates of other issuers, and by whom is not read here")
			}
		}
		l.revoked[r.SerialNumber.Text(16)] = r.RevocationTime
	}
	return l, nil
}

func readScope(der []byte) (s scope, err error) {
	var p struct {
		Point        asn1.RawValue  `asn1:"optional,tag:0"`
		Users        bool           `asn1:"optional,tag:1"`
		CAs          bool           `asn1:"optional,tag:2"`
		Reasons      asn1.BitString `asn1:"optional,tag:3"`
		Indirect     bool           `asn1:"optional,tag:4"`
		AttributesTo bool           `asn1:"optional,tag:5"`
	}
	if rest, err := asn1.Unmarshal(der, &p); err != nil || len(rest) > 0 {
		return s, errors.New("what it is about cannot be read")
	}
	if p.Reasons.BitLength > 0 || p.Indirect || p.AttributesTo {
		return s, errors.New("it is about some reasons, other issuers or other things alone, and lists of all that is revoked are wanted")
	}
	s = scope{users: p.Users, cas: p.CAs}
	if len(p.Point.Bytes) == 0 {
		return s, nil
	}
	var names asn1.RawValue // DistributionPointName, fullName
	if _, err := asn1.Unmarshal(p.Point.Bytes, &names); err != nil || names.Tag != 0 {
		return s, errors.New("the place that it is for is written in a way that is not read here")
	}
	for rest := names.Bytes; len(rest) > 0; {
		var one asn1.RawValue
		if rest, err = asn1.Unmarshal(rest, &one); err != nil {
			return s, errors.New("the place that it is for cannot be read")
		}
		if one.Class == asn1.ClassContextSpecific && one.Tag == 6 { // URI
			s.points = append(s.points, string(one.Bytes))
		}
	}
	return s, nil
}

// Covers tells whether the list is about a certificate: one of part of the authority's says nothing of the others.
func (l *List) Covers(c *x509.Certificate) bool {
	if l.of.users && c.IsCA || l.of.cas && !c.IsCA {
		return false
	}
	return len(l.of.points) == 0 ||
		slices.ContainsFunc(l.of.points, func(p string) bool { return slices.Contains(c.CRLDistributionPoints, p) })
}

// Fresh tells whether the list may be gone by.
func (l *List) Fresh(now time.Time) bool { return !now.Add(Skew).Before(l.This) && now.Before(l.Next) }

// Revoked tells since when a certificate is revoked.
func (l *List) Revoked(c *x509.Certificate) (time.Time, bool) {
	at, gone := l.revoked[c.SerialNumber.Text(16)]
	return at, gone
}
