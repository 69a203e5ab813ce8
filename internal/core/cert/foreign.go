package cert

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"strings"
	"time"
)

// weakKey says why a certificate's key will not do; empty if it will.
func weakKey(c *x509.Certificate) string {
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		if err := GoodRSA(k); err != nil {
			return "its " + err.Error()
		}
		return ""
	case *ecdsa.PublicKey:
		if k.Curve == elliptic.P256() {
			return ""
		}
	}
	return "its key is neither RSA nor ECDSA on P-256, which not every device accepts"
}

// fit tells whether a key belongs to a certificate.
func fit(leaf *x509.Certificate, key any) (crypto.Signer, error) {
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("the key is %T, which cannot sign", key)
	}
	public, ok := signer.Public().(interface{ Equal(crypto.PublicKey) bool })
	if !ok || !public.Equal(leaf.PublicKey) {
		return nil, errors.New("the key does not belong to the certificate")
	}
	return signer, nil
}

// Import reads a certificate with those above it (PEM, in any order) and its key (PEM: PKCS #8, PKCS #1 or SEC 1). key may be in the
// same text. pending, where not nil, is the key of a signing request: then no key need be given.
func Import(chain, key []byte, pending crypto.Signer) (*Pair, error) {
	var certs []*x509.Certificate
	var keys []any
	for _, rest := range [][]byte{chain, key} {
		for {
			var block *pem.Block
			if block, rest = pem.Decode(rest); block == nil {
				break
			}
			switch {
			case block.Type == "CERTIFICATE":
				c, err := x509.ParseCertificate(block.Bytes)
				if err != nil {
					return nil, fmt.Errorf("certificate %d cannot be read: %w", len(certs)+1, err)
				}
				certs = append(certs, c)
			case bytes.HasSuffix([]byte(block.Type), []byte("PRIVATE KEY")):
				k, err := parseKey(block)
				if err != nil {
					return nil, err
				}
				keys = append(keys, k)
			}
		}
	}
	if pending != nil {
		keys = append(keys, pending)
	}
	switch {
	case len(certs) == 0:
		return nil, errors.New("there is no certificate in it: expected PEM, which begins with -----BEGIN CERTIFICATE-----")
	case len(keys) == 0:
		return nil, errors.New("there is no private key in it, and no signing request waits for this certificate: give the key as PEM")
	}
	for _, c := range certs {
		for _, k := range keys {
			if signer, err := fit(c, k); err == nil {
				if why := weakKey(c); why != "" {
					return nil, errors.New("it will not do: " + why)
				}
				return &Pair{DER: c.Raw, Leaf: c, Key: signer, More: above(c, certs), Root: rootOf(c, certs)}, nil
			}
		}
	}
	return nil, errors.New("the private key belongs to none of the certificates")
}

// rootOf finds the authority at the top: nil where it is not among them.
func rootOf(leaf *x509.Certificate, certs []*x509.Certificate) []byte {
	top := leaf
	if n := above(leaf, certs); len(n) > 0 {
		top, _ = x509.ParseCertificate(n[len(n)-1])
	}
	for _, c := range certs {
		if c.IsCA && c.CheckSignatureFrom(c) == nil && top != nil && top.CheckSignatureFrom(c) == nil {
			return c.Raw
		}
	}
	return nil
}

func parseKey(block *pem.Block) (any, error) {
	if block.Type == "ENCRYPTED PRIVATE KEY" || block.Headers["DEK-Info"] != "" {
		return nil, errors.New("the private key is encrypted with a password: take the password off first; it is kept encrypted here")
	}
	if k, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
		return k, nil
	}
	if k, err := x509.ParsePKCS1PrivateKey(block.Bytes); err == nil {
		return k, nil
	}
	k, err := x509.ParseECPrivateKey(block.Bytes)
	if err != nil {
		return nil, errors.New("the private key cannot be read: expected PKCS #8, PKCS #1 or SEC 1")
	}
	return k, nil
}

// above puts the certificates over a leaf in order; a root, which devices have themselves, is left out.
func above(leaf *x509.Certificate, certs []*x509.Certificate) (out [][]byte) {
	issuer := func(of *x509.Certificate) *x509.Certificate {
		for _, c := range certs {
			if c != of && !bytes.Equal(c.RawSubject, c.RawIssuer) && bytes.Equal(c.RawSubject, of.RawIssuer) &&
				of.CheckSignatureFrom(c) == nil {
				return c
			}
		}
		return nil
	}
	for at := issuer(leaf); at != nil && len(out) < len(certs); at = issuer(at) {
		out = append(out, at.Raw)
	}
	return out
}

// Request makes a signing request (PKCS #10, RFC 2986; PEM) for the names that people dial.
func Request(rand io.Reader, key crypto.Signer, names ...string) ([]byte, error) {
	if len(names) == 0 {
		return nil, errors.New("a gateway's certificate needs a name")
	}
	t := &x509.CertificateRequest{Subject: pkix.Name{CommonName: names[0]}}
	t.DNSNames, t.IPAddresses = sorted(names)
	der, err := x509.CreateCertificateRequest(rand, t, key)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), err
}

// Revoked is a certificate that must no longer be believed.
type Revoked struct {
	Serial *big.Int
	At     time.Time
}

// RevocationLife is how long a revocation list may be used before a newer one must be fetched.
const RevocationLife = 30 * 24 * time.Hour

// RevocationList makes the authority's list (RFC 5280 §5; DER). number grows from list to list.
func (ca *Pair) RevocationList(rand io.Reader, now time.Time, number int64, revoked []Revoked) ([]byte, error) {
	t := &x509.RevocationList{Number: big.NewInt(number), ThisUpdate: now, NextUpdate: now.Add(RevocationLife)}
	for _, r := range revoked {
		t.RevokedCertificateEntries = append(t.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: r.Serial, RevocationTime: r.At})
	}
	return x509.CreateRevocationList(rand, t, ca.Leaf, ca.Key)
}

// Trust is what a device must trust so that it accepts the certificate: the authority above it as far as it is known, and where nothing
// above is known the certificate itself. PEM.
func (p *Pair) Trust() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.Top()})
}

// Top is the same, DER.
func (p *Pair) Top() []byte {
	if p.Root != nil {
		return p.Root
	}
	if n := len(p.More); n > 0 {
		return p.More[n-1]
	}
	return p.DER
}

// Fingerprint is the SHA-256 of a certificate, as people compare it.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(parts, ":")
}
