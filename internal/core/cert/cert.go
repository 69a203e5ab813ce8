// Package cert makes the service's own certificate authority and the gateways' certificates (X.509 by RFC 5280, for
// IKEv2 by RFC 4945), and says whether a certificate holds what people dial. Keeping keys is left to the store.
package cert

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Lifetimes: the authority's outlives every certificate that it signs; a gateway's is short enough for every platform.
const (
	AuthorityLife = 10 * 365 * 24 * time.Hour
	GatewayLife   = 397 * 24 * time.Hour
)

// Pair is a certificate with its key, and the certificates between it and its authority.
type Pair struct {
	DER  []byte
	More [][]byte // of other authorities, in order towards the root
	Root []byte   // of an imported one: the authority at the top, which is not shown but trusted; nil: not known
	Leaf *x509.Certificate
	Key  crypto.Signer
	// List is, of an authority, where its revocation list can be fetched (RFC 5280 §4.2.1.13), which is named in what it signs; empty:
	// nowhere that devices could reach.
	List string
}

// Chain is what the gateway shows: its own certificate first.
func (p *Pair) Chain() [][]byte { return append([][]byte{p.DER}, p.More...) }

// NewAuthority makes an authority of its own.
func NewAuthority(rand io.Reader, now time.Time, name string) (*Pair, error) {
	t := template(now, AuthorityLife, name+" authority")
	t.IsCA, t.BasicConstraintsValid, t.MaxPathLenZero = true, true, true
	t.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
	key, err := NewKey(rand)
	if err != nil {
		return nil, err
	}
	return create(rand, t, key, nil)
}

// NewKey makes a key for a certificate: ECDSA on P-256, which every system's own client accepts.
func NewKey(rand io.Reader) (*ecdsa.PrivateKey, error) {
	return ecdsa.GenerateKey(elliptic.P256(), rand)
}

// Kinds of keys of certificates.
const (
	ECDSA   = "ecdsa"
	RSA     = "rsa"
	Ed25519 = "ed25519"
)

const bitsRSA = 2048 // what every system takes; a gateway's certificate lasts a year

// NewKeyOf makes a key of a kind, ECDSA (on P-256) or RSA.
func NewKeyOf(rand io.Reader, kind string) (crypto.Signer, error) {
	switch kind {
	case ECDSA, "":
		return NewKey(rand)
	case RSA:
		return rsa.GenerateKey(rand, bitsRSA)
	}
	return nil, fmt.Errorf("keys of certificates are made as %s or %s, not as %q", ECDSA, RSA, kind)
}

// KindOf is the kind of a certificate's key; empty: another one.
func KindOf(c *x509.Certificate) string {
	switch c.PublicKey.(type) {
	case *ecdsa.PublicKey:
		return ECDSA
	case *rsa.PublicKey:
		return RSA
	case ed25519.PublicKey:
		return Ed25519
	}
	return ""
}

// PersonLife is how long a person's certificate lasts; in its last RenewWithin their device has it renewed by itself.
const (
	PersonLife  = 397 * 24 * time.Hour
	RenewWithin = 30 * 24 * time.Hour
)

// NewPerson signs a certificate for a person's key, a SubjectPublicKeyInfo: its name, as an address where it is one, is the subject (RFC
// 4945 §5.1). It is good for proving oneself and for nothing else.
func (ca *Pair) NewPerson(rand io.Reader, now time.Time, user string, spki []byte) (*x509.Certificate, error) {
	key, err := x509.ParsePKIXPublicKey(spki)
	if err != nil {
		return nil, err
	}
	t := template(now, PersonLife, user)
	t.KeyUsage = x509.KeyUsageDigitalSignature
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	if strings.Contains(user, "@") {
		t.EmailAddresses = []string{user}
	} else {
		t.DNSNames = []string{user} // some clients take their identity from here
	}
	if ca.List != "" {
		t.CRLDistributionPoints = []string{ca.List}
	}
	return ca.sign(rand, t, key)
}

// SelfSigned is a certificate that says nothing but that its key is there; nil where there can be none.
func SelfSigned(name string, key crypto.Signer) []byte {
	t := &x509.Certificate{Subject: pkix.Name{CommonName: name}, SerialNumber: big.NewInt(1), NotAfter: time.Unix(1<<32, 0)}
	der, err := x509.CreateCertificate(nil, t, t, key.Public(), key)
	if err != nil {
		return nil
	}
	return der
}

// number gives a certificate a serial number that nobody guesses.
func number(rand io.Reader, t *x509.Certificate) error {
	serial := make([]byte, 16)
	if _, err := io.ReadFull(rand, serial); err != nil {
		return err
	}
	serial[0] &= 0x7f // positive (RFC 5280 §4.1.2.2)
	t.SerialNumber = new(big.Int).SetBytes(serial)
	return nil
}

// NewSigner makes a certificate for signing files.
func (ca *Pair) NewSigner(rand io.Reader, now time.Time, name string) (*Pair, error) {
	t := template(now, PersonLife, name)
	t.KeyUsage = x509.KeyUsageDigitalSignature
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning, x509.ExtKeyUsageEmailProtection}
	if ca.List != "" {
		t.CRLDistributionPoints = []string{ca.List}
	}
	key, err := NewKey(rand)
	if err != nil {
		return nil, err
	}
	return create(rand, t, key, ca)
}

// NewRecipient makes a certificate with an RSA key by which others seal what they ask for, and which signs the answers (RFC 8894 §2.1.2).
func (ca *Pair) NewRecipient(rand io.Reader, now time.Time, name string) (*Pair, error) {
	t := template(now, PersonLife, name)
	t.KeyUsage = x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment
	key, err := NewKeyOf(rand, RSA)
	if err != nil {
		return nil, err
	}
	return create(rand, t, key, ca)
}

// NewGateway makes a certificate for the names that people dial.
func (ca *Pair) NewGateway(rand io.Reader, now time.Time, names ...string) (*Pair, error) {
	return ca.NewGatewayWith(rand, now, ECDSA, names...)
}

// NewGatewayWith is NewGateway with a kind of key, ECDSA or RSA.
func (ca *Pair) NewGatewayWith(rand io.Reader, now time.Time, kind string, names ...string) (*Pair, error) {
	key, err := NewKeyOf(rand, kind)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, errors.New("a gateway's certificate needs a name")
	}
	t := template(now, GatewayLife, names[0])
	t.KeyUsage = x509.KeyUsageDigitalSignature
	// Several systems' own clients ask for the first; by the second the service proves itself to servers that it asks about people.
	t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}
	t.DNSNames, t.IPAddresses = sorted(names)
	if ca.List != "" {
		t.CRLDistributionPoints = []string{ca.List}
	}
	return create(rand, t, key, ca)
}

func template(now time.Time, life time.Duration, name string) *x509.Certificate {
	return &x509.Certificate{Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(life)}
}

func create(rand io.Reader, t *x509.Certificate, key crypto.Signer, ca *Pair) (*Pair, error) {
	signer := &Pair{Leaf: t, Key: key}
	if ca != nil {
		signer = ca
	}
	leaf, err := signer.sign(rand, t, key.Public())
	if err != nil {
		return nil, err
	}
	return &Pair{DER: leaf.Raw, Leaf: leaf, Key: key}, nil
}

// sign numbers a certificate and signs it. It begins no earlier than its authority does: where a clock was set back since, nobody could
// follow the one to the other at any time before.
func (ca *Pair) sign(rand io.Reader, t *x509.Certificate, public any) (*x509.Certificate, error) {
	if err := number(rand, t); err != nil {
		return nil, err
	}
	if t.NotBefore.Before(ca.Leaf.NotBefore) {
		t.NotBefore = ca.Leaf.NotBefore
	}
	der, err := x509.CreateCertificate(rand, t, ca.Leaf, public, ca.Key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// PEM writes the certificate.
func (p *Pair) PEM() []byte { return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.DER}) }

// KeyDER writes the key (PKCS #8). It is a secret.
func (p *Pair) KeyDER() ([]byte, error) { return x509.MarshalPKCS8PrivateKey(p.Key) }

// sorted tells names from addresses.
func sorted(names []string) (dns []string, ips []net.IP) {
	for _, n := range names {
		if a, err := netip.ParseAddr(n); err == nil {
			ips = append(ips, net.IP(a.AsSlice()))
		} else {
			dns = append(dns, n)
		}
	}
	return dns, ips
}

// Names is what a certificate is good for: DNS names, then addresses.
func Names(c *x509.Certificate) []string {
	out := append([]string{}, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		out = append(out, ip.String())
	}
	return out
}

// Load puts a certificate, those above it (each DER, one behind the other) and its key (PKCS #8) together again.
func Load(der, more, key []byte) (*Pair, error) {
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	above, err := x509.ParseCertificates(more)
	if err != nil {
		return nil, err
	}
	k, err := x509.ParsePKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	signer, err := fit(leaf, k)
	if err != nil {
		return nil, err
	}
	p := &Pair{DER: der, Leaf: leaf, Key: signer}
	for _, c := range above {
		p.More = append(p.More, c.Raw)
	}
	return p, nil
}

// Problem says why the certificate will not do for people who dial name at the time now; empty if it will.
func Problem(c *x509.Certificate, name string, now time.Time) string {
	switch {
	case now.Before(c.NotBefore):
		return "it is not valid before " + c.NotBefore.UTC().Format(time.DateTime)
	case now.After(c.NotAfter):
		return "it expired on " + c.NotAfter.UTC().Format(time.DateTime)
	case c.VerifyHostname(name) != nil:
		return fmt.Sprintf("it does not hold %q, which people dial", name)
	case weakKey(c) != "":
		return weakKey(c)
	case c.IsCA:
		return "it is an authority's certificate, not a server's"
	case len(c.ExtKeyUsage) > 0 && !slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageServerAuth) &&
		!slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny):
		return "it is not made for servers (extended key usage)"
	case c.KeyUsage != 0 && c.KeyUsage&x509.KeyUsageDigitalSignature == 0:
		return "its key may not be used for signatures"
	}
	return ""
}
