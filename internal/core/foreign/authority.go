// Package foreign judges certificates of people that other authorities than the service's own issued: who stands behind one, what it may be
// used for, whom it names, and what a revocation list or an answer by OCSP says of it. Fetching those is left to others.
package foreign

import (
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

// Authority is one whose certificates people may log in by.
type Authority struct {
	plan.Authority
	Certificates []*x509.Certificate // each of which is believed by itself

	anchors *x509.CertPool
}

// mostAnchors is how many certificates one authority of a plan may have.
const mostAnchors = 16

// Read reads the certificates of an authority. Errors say what is there instead.
func Read(a plan.Authority) (*Authority, error) {
	out := &Authority{Authority: a, anchors: x509.NewCertPool()}
	for rest := []byte(a.Certificate); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			if strings.TrimSpace(string(rest)) != "" {
				return nil, errors.New("it is no PEM from beginning to end: each certificate begins with -----BEGIN CERTIFICATE-----")
			}
			break
		}
		if strings.Contains(block.Type, "PRIVATE") {
			return nil, errors.New("there is a private key in it, which whoever reads the plan has now: take it out, and have its owner replace it")
		}
		if block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("there is a %s in it: only certificates are wanted", strings.ToLower(block.Type))
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("certificate %d cannot be read: %w", len(out.Certificates)+1, err)
		}
		if why := unfit(c); why != "" {
			return nil, fmt.Errorf("certificate %q %s", c.Subject.CommonName, why)
		}
		if len(out.Certificates) == mostAnchors {
			return nil, fmt.Errorf("there are more than %d certificates in it", mostAnchors)
		}
		out.Certificates = append(out.Certificates, c)
		out.anchors.AddCert(c)
	}
	if len(out.Certificates) == 0 {
		return nil, errors.New("there is no certificate in it")
	}
	return out, nil
}

// unfit says why a certificate can be no authority's.
func unfit(c *x509.Certificate) string {
	switch {
	case !c.BasicConstraintsValid || !c.IsCA:
		return "is not an authority's: give that of who issues people's, not one of theirs"
	case c.KeyUsage != 0 && c.KeyUsage&x509.KeyUsageCertSign == 0:
		return "may not sign certificates"
	case cert.GoodKey(c.PublicKey) != nil:
		return "will not do: " + cert.GoodKey(c.PublicKey).Error()
	}
	return ""
}

// Ends is when the first of its certificates ends.
func (a *Authority) Ends() time.Time {
	first := a.Certificates[0].NotAfter
	for _, c := range a.Certificates {
		if c.NotAfter.Before(first) {
			first = c.NotAfter
		}
	}
	return first
}

// ForIPsec is the extended key usage id-kp-ipsecIKE (RFC 4945 §5.1.3.12).
var forIPsec = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 17}

// Chain finds the way from the first of the certificates that were shown up to one of the authority's; with a reason there is none. Both
// ends are in it.
func (a *Authority) Chain(shown []*x509.Certificate, now time.Time) ([]*x509.Certificate, reason.Reason) {
	leaf, between := shown[0], x509.NewCertPool()
	for _, c := range shown[1:] {
		between.AddCert(c)
	}
	chains, err := leaf.Verify(x509.VerifyOptions{
		Roots: a.anchors, Intermediates: between, CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
	})
	invalid := x509.CertificateInvalidError{}
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return nil, reason.Of(reason.KeyExpired, reason.With{reason.Error: expiry(invalid.Cert, now)})
	case err != nil:
		return nil, reason.Of(reason.KeyStranger, reason.With{reason.Certificate: about(leaf), reason.Error: err.Error()})
	}
	if why := misused(leaf, chains[0]); why != "" {
		return nil, reason.Of(reason.KeyMisused, reason.With{reason.Error: why})
	}
	return chains[0], reason.Reason{}
}

func expiry(c *x509.Certificate, now time.Time) string {
	if now.Before(c.NotBefore) {
		return c.Subject.CommonName + " begins on " + c.NotBefore.UTC().Format(time.DateTime)
	}
	return c.Subject.CommonName + " ended on " + c.NotAfter.UTC().Format(time.DateTime)
}

// about names a certificate to people.
func about(c *x509.Certificate) string { return c.Subject.String() + " of " + c.Issuer.String() }

// misused says why a certificate may not be used to log in by (RFC 4945 §5.1.3); empty if it may.
func misused(leaf *x509.Certificate, chain []*x509.Certificate) string {
	const signs = x509.KeyUsageDigitalSignature | x509.KeyUsageContentCommitment
	switch err := cert.GoodKey(leaf.PublicKey); {
	case err != nil:
		return err.Error()
	case leaf.IsCA:
		return "it is an authority's"
	case leaf.KeyUsage != 0 && leaf.KeyUsage&signs == 0:
		return "its key usage has no digitalSignature"
	}
	for i, c := range chain[:len(chain)-1] { // what an authority in between may issue for binds whom it issues to
		if !forLogin(c) {
			if i > 0 {
				return "authority " + c.Subject.CommonName + " may not issue certificates to log in by"
			}
			return "its extended key usage has neither clientAuth nor ipsecIKE"
		}
	}
	return ""
}

// forLogin tells whether a certificate may be used to log in by a tunnel: no extended key usage means any.
func forLogin(c *x509.Certificate) bool {
	if len(c.ExtKeyUsage) == 0 && len(c.UnknownExtKeyUsage) == 0 {
		return true
	}
	for _, u := range c.ExtKeyUsage {
		if u == x509.ExtKeyUsageAny || u == x509.ExtKeyUsageClientAuth {
			return true
		}
	}
	return slices.ContainsFunc(c.UnknownExtKeyUsage, forIPsec.Equal)
}
