package foreign

import (
	"bytes"
	"crypto"
	"crypto/sha1"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/crypto/ocsp"
)

// Answer is what an authority's server says of one certificate (OCSP, RFC 6960).
type Answer struct {
	Revoked bool
	At      time.Time // since when it is
	Until   time.Time // until when the answer may be gone by
}

// longestAnswer is for how long an answer is gone by, and for how long one that does not say.
const (
	longestAnswer = time.Hour
	openAnswer    = time.Minute
)

// Ask makes the question for a certificate (RFC 6960 §4.1).
func Ask(c, issuer *x509.Certificate) ([]byte, error) {
	return ocsp.CreateRequest(c, issuer, &ocsp.RequestOptions{Hash: crypto.SHA1}) // which RFC 5019 §2.1.1 has every server take
}

// ReadAnswer reads the answer, and holds it against who may give it: the issuer, or whom it appointed for it (RFC 6960 §4.2.2.2). Errors
// say why it cannot be gone by.
func ReadAnswer(b []byte, c, issuer *x509.Certificate, now time.Time) (Answer, error) {
	r, err := ocsp.ParseResponseForCert(b, c, issuer)
	if err != nil {
		return Answer{}, fmt.Errorf("the answer cannot be gone by: %w", err)
	}
	if by := r.Certificate; by != nil && !bytes.Equal(by.Raw, issuer.Raw) {
		switch {
		case !slices.Contains(by.ExtKeyUsage, x509.ExtKeyUsageOCSPSigning):
			return Answer{}, fmt.Errorf("the answer is signed by %q, who is not appointed to answer", by.Subject.CommonName)
		case now.Before(by.NotBefore) || now.After(by.NotAfter):
			return Answer{}, fmt.Errorf("the answer is signed by %q, whose certificate is not valid now", by.Subject.CommonName)
		}
	}
	if !bytes.Contains(r.TBSResponseData, keyHash(issuer)) {
		return Answer{}, errors.New("the answer is about a certificate of another issuer")
	}
	switch {
	case now.Add(Skew).Before(r.ThisUpdate):
		return Answer{}, errors.New("the answer is of a time to come")
	case !r.NextUpdate.IsZero() && !now.Before(r.NextUpdate):
		return Answer{}, fmt.Errorf("the answer was to be gone by until %s", r.NextUpdate.Format(time.DateTime))
	case r.NextUpdate.IsZero() && now.Sub(r.ThisUpdate) > longestAnswer:
		return Answer{}, fmt.Errorf("the answer is of %s, and does not say until when it counts", r.ThisUpdate.Format(time.DateTime))
	}
	a := Answer{Until: now.Add(longestAnswer)}
	if r.NextUpdate.IsZero() {
		a.Until = now.Add(openAnswer)
	} else if r.NextUpdate.Before(a.Until) {
		a.Until = r.NextUpdate
	}
	switch r.Status {
	case ocsp.Good:
		return a, nil
	case ocsp.Revoked:
		a.Revoked, a.At = true, r.RevokedAt
		return a, nil
	}
	return Answer{}, errors.New("the server does not know the certificate")
}

// keyHash is the SHA-1 of the issuer's key, by which a question names it (RFC 6960 §4.1.1).
func keyHash(issuer *x509.Certificate) []byte {
	var spki struct {
		Algorithm asn1.RawValue
		Key       asn1.BitString
	}
	if _, err := asn1.Unmarshal(issuer.RawSubjectPublicKeyInfo, &spki); err != nil {
		return issuer.RawSubjectPublicKeyInfo // which no answer holds
	}
	sum := sha1.Sum(spki.Key.RightAlign())
	return sum[:]
}
