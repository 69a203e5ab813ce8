// Package enrolled is what a probe on a machine elsewhere and the service say to each other. The probe calls the service over HTTP, and so
// needs no port. Its key never leaves its machine; each call is signed with it (a JSON Web Token, RFC 7519, by EdDSA, RFC 8037).
package enrolled

import (
	"bytes"
	"compress/gzip"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"yellowlantern/internal/probe"
)

const (
	// Format is of invitations and identities.
	Format = 1
	// Apart is how far the clocks of probe and service may be apart.
	Apart = 5 * time.Minute
	// audience keeps a call's signature from being anything else's.
	audience = "yellow-lantern-probe"
	// mostReport is how large a report may be once it is unpacked, in octets.
	mostReport = 8 << 20
	// mostPacked is how large it may be packed: in base64, with the rest of a call, below 64 KiB.
	mostPacked = 45000
)

// nameFits is what a probe, which is a vantage, may be called.
var nameFits = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// Named says what is wrong with a name.
func Named(name string) error {
	if !nameFits.MatchString(name) {
		return fmt.Errorf("%q cannot be a vantage's name: give 1 to 32 lower-case letters, digits and hyphens, such as branch-office", name)
	}
	return nil
}

// Invitation is a file by which one machine becomes a probe.
type Invitation struct {
	Format    int       `json:"format"`
	Name      string    `json:"name"`
	Service   string    `json:"service"`   // where it is called
	Authority string    `json:"authority"` // which its certificate may be of, beside those that the machine believes anyway; PEM
	Code      string    `json:"code"`      // good for one enrolment
	Until     time.Time `json:"until"`
}

// Enrolment is what a machine sends to become a probe.
type Enrolment struct {
	Name string `json:"name" maxLength:"32"`
	Code string `json:"code" maxLength:"64"`
	Key  []byte `json:"key" maxLength:"256" doc:"The probe's public key: SubjectPublicKeyInfo (RFC 5280 §4.1.2.7) of Ed25519."`
	// Proof shows that the private key is there.
	Proof string `json:"proof" maxLength:"2048" doc:"A call's token (RFC 7519), signed with that key."`
}

// Identity is what an enrolled probe keeps, for its machine's root alone.
type Identity struct {
	Format    int    `json:"format"`
	Name      string `json:"name"`
	Service   string `json:"service"`
	Authority string `json:"authority"`
	Key       []byte `json:"key"` // PKCS #8 (RFC 5958)
}

// Call asks for the next job, and brings the report of one that is done.
type Call struct {
	Token  string `json:"token" maxLength:"4096" doc:"Who calls, when, of which job the report is and what its digest is (RFC 7519, EdDSA of RFC 8037)."`
	Report []byte `json:"report,omitempty" maxLength:"60000" doc:"JSON, packed (RFC 1952)."`
}

// Answer is what a call brings back.
type Answer struct {
	Job *Job `json:"job,omitempty" doc:"What to try; none: call again."`
}

// Job is one class of people to try as, by an identity that is made for it and gone afterwards.
type Job struct {
	ID          string      `json:"id"`
	Order       probe.Order `json:"order"`
	Password    string      `json:"password"`
	Key         []byte      `json:"key" doc:"PKCS #8 (RFC 5958)."`
	Certificate []byte      `json:"certificate" doc:"DER."`
}

// Claims are what a call's token says.
type Claims struct {
	jwt.RegisteredClaims
	Job    string `json:"job,omitempty"`    // of which the report is
	Digest string `json:"digest,omitempty"` // of the packed report: SHA-256, base64url
}

// digest is how a report is bound to its token.
func digest(report []byte) string {
	sum := sha256.Sum256(report)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// sign makes the token of a call.
func sign(key ed25519.PrivateKey, name, job string, report []byte, now time.Time) (string, error) {
	c := Claims{Job: job, RegisteredClaims: jwt.RegisteredClaims{
		Issuer: name, Audience: jwt.ClaimStrings{audience}, IssuedAt: jwt.NewNumericDate(now), ID: rand.Text(),
	}}
	if report != nil {
		c.Digest = digest(report)
	}
	return jwt.NewWithClaims(jwt.SigningMethodEdDSA, c).SignedString(key)
}

// ErrClocks is where the clocks of both are too far apart.
var ErrClocks = fmt.Errorf("the clock of the probe's machine differs by more than %d minutes from the service's: set it",
	int(Apart.Minutes()))

// Verify reads a call's token, which must be signed with the key that key knows of the name that it has. Errors tell a stranger nothing
// but that it does not count, or that the clocks differ.
func Verify(token string, report []byte, now time.Time, key func(name string) (ed25519.PublicKey, error)) (Claims, error) {
	var c Claims
	_, err := jwt.ParseWithClaims(token, &c, func(*jwt.Token) (any, error) { return key(c.Issuer) },
		jwt.WithValidMethods([]string{jwt.SigningMethodEdDSA.Alg()}), jwt.WithAudience(audience), jwt.WithoutClaimsValidation())
	switch {
	case err != nil:
		return c, err
	case len(c.Audience) != 1 || c.Audience[0] != audience:
		return c, errors.New("it is for somebody else")
	case c.IssuedAt == nil || c.ID == "":
		return c, errors.New("it lacks when it was made, or its number")
	case now.Sub(c.IssuedAt.Time).Abs() > Apart:
		return c, ErrClocks
	case (report != nil || c.Digest != "") && digest(report) != c.Digest:
		return c, errors.New("the report is not the one that was signed")
	}
	return c, nil
}

// PublicKey reads a key that enrolls.
func PublicKey(spki []byte) (ed25519.PublicKey, error) {
	k, err := x509.ParsePKIXPublicKey(spki)
	if err != nil {
		return nil, err
	}
	public, ok := k.(ed25519.PublicKey)
	if !ok {
		return nil, errors.New("it is no key of Ed25519")
	}
	return public, nil
}

// pack makes of a report what a call carries: of each trial what was seen, and what it was of.
func pack(r probe.Report) ([]byte, error) {
	r.Slim()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	if err := errors.Join(json.NewEncoder(z).Encode(r), z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Unpack reads a packed report.
func Unpack(b []byte) (r probe.Report, err error) {
	z, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return r, fmt.Errorf("this is no packed report: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(z, mostReport+1))
	switch {
	case err != nil:
		return r, fmt.Errorf("this is no packed report: %w", err)
	case len(text) > mostReport:
		return r, fmt.Errorf("this report is larger than %d MiB", mostReport>>20)
	}
	return r, json.Unmarshal(text, &r)
}
