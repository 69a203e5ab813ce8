package probe

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/smallstep/pkcs7"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
)

// Versions of the file.
const (
	kitFormat    = 3
	unsignedKits = 2 // as written before 0.18
	joinedKits   = 1 // which name algorithms by joined words
)

// signatureBlock is what the signature behind a kit is called (RFC 7468 §9).
const signatureBlock = "CMS"

// Kit is a file by which a machine that has no access to the service can probe and connect: JSON, and behind it a signature of all of that
// by the service's own authority (CMS, RFC 5652). It holds nothing secret: the person brings the password.
type Kit struct {
	Format int `json:"format"`
	Order
	// Authorities are the fingerprints of those that kits for this device may be signed by after this one.
	Authorities []string `json:"signing-authorities,omitempty"`
	// Suites are the algorithms of kits of versions before 0.11.
	Suites []string `json:"suites,omitempty"`
	// Signer is the fingerprint of the authority that it is signed by; empty: it is of a version that did not sign.
	Signer string `json:"-"`
}

// WriteKit writes an order as a file, of which sign makes the signature; authorities are those that sign from now on.
func WriteKit(o Order, authorities []string, sign func([]byte) ([]byte, error)) ([]byte, error) {
	b, err := json.MarshalIndent(Kit{Format: kitFormat, Order: o, Authorities: authorities}, "", "  ")
	if err != nil {
		return nil, err
	}
	b = append(b, '\n')
	signature, err := sign(b)
	if err != nil {
		return nil, err
	}
	return append(b, pem.EncodeToMemory(&pem.Block{Type: signatureBlock, Bytes: signature})...), nil
}

// ReadKit reads one, with its signature. Errors say what is wrong with the file.
func ReadKit(b []byte) (Kit, error) {
	var k Kit
	b, signer, err := signedBy(b)
	if err != nil {
		return k, err
	}
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&k); err != nil {
		return k, fmt.Errorf("this is no kit for a probe: %w", err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return k, errors.New("there is more in the file than a kit")
	}
	if k.Format == joinedKits {
		k.Format, k.Algorithms, k.Suites = unsignedKits, plan.OfSuites(k.Suites), nil
	}
	k.Signer = signer
	switch {
	case k.Format != kitFormat && k.Format != unsignedKits:
		return k, fmt.Errorf("the kit is of format %d, this program knows %d: have it made again (yl probe kit)", k.Format, kitFormat)
	case k.Format == kitFormat && signer == "":
		return k, errors.New("the kit's signature was cut off: have it made again (yl probe kit)")
	case k.User == "" || k.Dial == "" || k.Algorithms.Empty():
		return k, errors.New("the kit lacks user, dial or algorithms: have it made again (yl probe kit)")
	}
	return k, nil
}

// signedBy takes a kit's signature off, and gives what it signs and the fingerprint of the authority that it is by; empty: there is none.
func signedBy(b []byte) (content []byte, signer string, err error) {
	at := bytes.Index(b, []byte("\n-----BEGIN "+signatureBlock+"-----")) // no text of JSON has a line's end in it
	if at < 0 {
		return b, "", nil
	}
	content = b[:at+1]
	block, rest := pem.Decode(b[at+1:])
	if block == nil || len(bytes.TrimSpace(rest)) > 0 {
		return nil, "", errors.New("the kit's signature cannot be read: have it made again (yl probe kit)")
	}
	authority, err := signs(content, block.Bytes)
	if err != nil {
		return nil, "", fmt.Errorf("the kit is not what was signed, so somebody changed it (%w): have it made again (yl probe kit), and "+
			"find out which way it came", err)
	}
	return content, cert.Fingerprint(authority.Raw), nil
}

// signs gives the authority of whose a signature is. What signs is a certificate for signing files, directly of the authority; the key was
// used once, so that it does not matter whether it ended meanwhile.
func signs(content, signature []byte) (*x509.Certificate, error) {
	p7, err := pkcs7.Parse(signature)
	if err != nil {
		return nil, err
	}
	leaf := p7.GetOnlySigner()
	if leaf == nil {
		return nil, errors.New("it has no signer, or several")
	}
	p7.Content = content
	if p7.Verify() != nil { // with octets that nobody reads
		return nil, errors.New("its signature is of something else")
	}
	i := slices.IndexFunc(p7.Certificates, func(c *x509.Certificate) bool { return c.IsCA && leaf.CheckSignatureFrom(c) == nil })
	if i < 0 {
		return nil, errors.New("the authority of its signer is not in it")
	}
	roots := x509.NewCertPool()
	roots.AddCert(p7.Certificates[i])
	_, err = leaf.Verify(x509.VerifyOptions{
		Roots: roots, CurrentTime: leaf.NotBefore, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning},
	})
	return p7.Certificates[i], err
}

// Fingerprint is that of the authority which the kit believes.
func (k Kit) Fingerprint() (string, error) {
	block, _ := pem.Decode([]byte(k.Authority))
	if block == nil {
		return "", errors.New("the authority's certificate cannot be read")
	}
	return cert.Fingerprint(block.Bytes), nil
}
