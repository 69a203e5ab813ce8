// Package onetime judges codes that count once: by time (RFC 6238) and by a counter (RFC 4226). Keeping secrets, slowing guesses and whose
// codes they are is left to others.
package onetime

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
)

// Kinds of secrets.
const (
	ByTime    = "time"
	ByCounter = "counter"
	// ByKey is a security key, which has no codes.
	ByKey = "security-key"
)

const (
	// Digits is how long a code is.
	Digits = 6
	// Step is for how long a code by time lasts (RFC 6238 §5.2).
	Step = 30 * time.Second
	// drift is by how many steps a device's clock may differ (RFC 6238 §6).
	drift = 1
	// ahead is how many codes by a counter may have been made and not used (RFC 4226 §7.4).
	ahead = 10
	// SecretOctets is how long a secret is that is made here (RFC 4226 §4, R6).
	SecretOctets = 20
	leastOctets  = 16
	mostOctets   = 64
)

// Secret is what a device and the service both know. It is no text: it is never shown by accident.
type Secret struct {
	Kind string
	key  []byte
}

// New makes a secret.
func New(kind string) (Secret, error) {
	key := make([]byte, SecretOctets)
	_, err := rand.Read(key)
	return Secret{kind, key}, err
}

// Of is a secret of a kind whose octets are known.
func Of(kind string, key []byte) Secret { return Secret{kind, key} }

// Read reads a secret as makers of devices hand it out, in base32 (RFC 4648 §6), spaces and hyphens left out.
func Read(kind, text string) (Secret, error) {
	text = strings.TrimRight(strings.ToUpper(strings.NewReplacer(" ", "", "-", "", "\n", "", "\r", "").Replace(text)), "=")
	key, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(text)
	switch {
	case err != nil:
		return Secret{}, errors.New("the secret is not written in base32: letters A to Z and digits 2 to 7")
	case len(key) < leastOctets || len(key) > mostOctets:
		return Secret{}, fmt.Errorf("the secret has %d octets: it must have %d to %d (RFC 4226 §4)", len(key), leastOctets, mostOctets)
	}
	return Secret{kind, key}, nil
}

// Octets are the secret itself, to be kept sealed.
func (s Secret) Octets() []byte { return s.key }

// Text is the secret as somebody types it into a device, in base32.
func (s Secret) Text() string {
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(s.key)
}

// URI is the secret as a device reads it from a picture.
func (s Secret) URI(site, user string) string {
	kind := "totp"
	q := url.Values{"secret": {s.Text()}, "issuer": {site}, "digits": {fmt.Sprint(Digits)}, "algorithm": {"SHA1"}}
	if s.Kind == ByCounter {
		kind = "hotp"
		q.Set("counter", "0")
	} else {
		q.Set("period", fmt.Sprint(int(Step.Seconds())))
	}
	return (&url.URL{
		Scheme: "otpauth", Host: kind, Path: "/" + site + ":" + user, RawQuery: strings.ReplaceAll(q.Encode(), "+", "%20"),
	}).String()
}

// Code is the one at a place of its row: of a step of time, or of a counter.
func (s Secret) Code(at uint64) string {
	code, err := hotp.GenerateCodeCustom(s.Text(), at, hotp.ValidateOpts{Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
	if err != nil {
		return ""
	}
	return code
}

// At is the place of a moment.
func At(now time.Time) uint64 { return uint64(now.Unix() / int64(Step.Seconds())) }

// Verdict is what became of a code.
type Verdict int

// Verdicts.
const (
	Wrong Verdict = iota
	Used          // it was right, and counts no more
	Right
)

// Judge judges a code: next is the first place whose code was not used yet. Where it is right, it gives the first that is not used then.
// The time that it takes does not hang on which digits are wrong.
func (s Secret) Judge(code string, next uint64, now time.Time) (Verdict, uint64) {
	code = strings.ReplaceAll(code, " ", "")
	if len(code) != Digits {
		return Wrong, next
	}
	from, to := next, next+ahead-1
	if s.Kind == ByTime {
		from, to = At(now)-drift, At(now)+drift
	}
	verdict, after := Wrong, next
	for at := from; at <= to; at++ {
		if subtle.ConstantTimeCompare([]byte(s.Code(at)), []byte(code)) == 0 {
			continue
		}
		if at < next {
			verdict = max(verdict, Used)
			continue
		}
		if verdict != Right {
			verdict, after = Right, at+1
		}
	}
	return verdict, after
}
