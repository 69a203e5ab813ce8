package people

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Key is a public key by which a person proves who they are.
type Key struct {
	Fingerprint string    `json:"fingerprint" doc:"SHA-256 of the public key; the device shows the same."`
	User        string    `json:"user"`
	Device      string    `json:"device,omitempty" doc:"What it is on."`
	Kind        string    `json:"kind" enum:"certificate,public-key"`
	Authority   string    `json:"authority,omitempty" doc:"Who issued its certificate, by its name in the plan; the own authority if not given."`
	Added       time.Time `json:"added"`
	Expires     time.Time `json:"expires,omitzero" doc:"Of its certificate."`
	Revoked     time.Time `json:"revoked,omitzero"`
	Certificate string    `json:"certificate,omitempty" doc:"PEM, where one was issued."`
}

// keyOf is a record without anything that a list needs not.
func keyOf(r store.PersonKey) Key {
	k := Key{
		Fingerprint: r.Fingerprint, User: r.User, Device: r.Device, Kind: "public-key", Added: r.At, Expires: r.Expires, Revoked: r.Revoked, Authority: r.Authority,
	}
	if len(r.Certificate) > 0 {
		k.Kind = "certificate"
		k.Certificate = certificatePEM(r.Certificate)
	}
	return k
}

// Keys lists the keys of a person, or of everybody.
func (p *People) Keys(ctx context.Context, user string) ([]Key, error) {
	records, err := p.keeper.Keys(ctx, user)
	out := make([]Key, 0, len(records))
	for _, r := range records {
		out = append(out, keyOf(r))
	}
	return out, err
}

// ReadPublic reads what a device gives of its key: a public key or a signing request, PEM. It gives the SubjectPublicKeyInfo, and whether a
// certificate is asked for. Errors say what it is instead, and what to do.
func ReadPublic(text string) (spki []byte, request bool, err error) {
	block, rest := pem.Decode([]byte(strings.TrimSpace(text)))
	switch {
	case block == nil:
		return nil, false, errors.New("this is no PEM: give the public key as yl dial new-key shows it, or a signing request (PKCS #10)")
	case len(strings.TrimSpace(string(rest))) > 0:
		return nil, false, errors.New("there is more than one key: give one for each device")
	case strings.Contains(block.Type, "PRIVATE"):
		return nil, false, errors.New("this is a private key, which must not leave its device: give the public one; make this device another key")
	case block.Type == "CERTIFICATE REQUEST" || block.Type == "NEW CERTIFICATE REQUEST":
		r, err := x509.ParseCertificateRequest(block.Bytes)
		if err == nil {
			if err := cert.GoodKey(r.PublicKey); err != nil { // before anything is worked out with it: strangers send requests too
				return nil, false, err
			}
			err = r.CheckSignature()
		}
		if err != nil {
			return nil, false, fmt.Errorf("the signing request cannot be taken: %w", err)
		}
		spki, request = r.RawSubjectPublicKeyInfo, true
	case block.Type == "PUBLIC KEY":
		spki = block.Bytes
	default:
		return nil, false, fmt.Errorf("this is a %s: give a public key or a signing request", strings.ToLower(block.Type))
	}
	key, err := x509.ParsePKIXPublicKey(spki)
	if err != nil {
		return nil, false, fmt.Errorf("the public key cannot be read: %w", err)
	}
	return spki, request, cert.GoodKey(key)
}

// AddKey gives a person a key, with a certificate for it where one was issued.
func (p *People) AddKey(ctx context.Context, user, device string, spki []byte, leaf *x509.Certificate) (Key, error) {
	r := store.PersonKey{Fingerprint: cert.Fingerprint(spki), User: user, Device: device, Public: spki, At: time.Now().UTC()}
	if leaf != nil {
		r.Certificate, r.Serial, r.Expires = leaf.Raw, leaf.SerialNumber.Text(16), leaf.NotAfter.UTC()
	}
	return keyOf(r), p.keeper.AddKey(ctx, r)
}

// RenewKey gives a key that is a person's already a newer certificate.
func (p *People) RenewKey(ctx context.Context, user, device string, spki []byte, leaf *x509.Certificate) (Key, error) {
	r, err := p.keeper.Key(ctx, cert.Fingerprint(spki))
	if err != nil {
		return Key{}, err
	}
	r.Certificate, r.Serial, r.Expires = leaf.Raw, leaf.SerialNumber.Text(16), leaf.NotAfter.UTC()
	r.Next, r.NextSerial, r.NextExpires = nil, "", time.Time{}
	if device != "" {
		r.Device = device
	}
	return keyOf(r), p.keeper.RenewKey(ctx, r)
}

// RevokeKey takes a key back, and gives what it was.
func (p *People) RevokeKey(ctx context.Context, fingerprint string) (store.PersonKey, error) {
	k, err := p.keeper.Key(ctx, fingerprint)
	if err == nil {
		err = p.keeper.RevokeKey(ctx, fingerprint, time.Now())
	}
	return k, err
}

// Owner implements gateway.People: whose key it is that somebody has shown to have.
func (p *People) Owner(ctx context.Context, shown login.Key) login.Outcome {
	fingerprint, name := cert.Fingerprint(shown.Public), "key "+cert.Fingerprint(shown.Public)
	if len(shown.Chain) > 0 {
		leaf, err := x509.ParseCertificate(shown.Chain[0])
		// Whoever asks has settled that, too; but whom a chain names counts for the key that it holds alone.
		if err != nil || !bytes.Equal(leaf.RawSubjectPublicKeyInfo, shown.Public) {
			return login.Outcome{Why: reason.Of(reason.KeyOther, nil)}
		}
		name = certificateNamed(leaf) + ", " + name
	}
	o := p.owner(ctx, shown, fingerprint)
	o.ProvedBy = name
	return o
}

// certificateNamed names a certificate as its issuer does: nobody else's has that serial number.
func certificateNamed(leaf *x509.Certificate) string {
	issuer := []rune(legible.Escape(leaf.Issuer.String()))
	return fmt.Sprintf("certificate %s of %s", leaf.SerialNumber.Text(16), string(issuer[:min(len(issuer), 128)]))
}

func (p *People) owner(ctx context.Context, shown login.Key, fingerprint string) login.Outcome {
	refused := func(code reason.Code, user string, with reason.With) login.Outcome {
		return login.Outcome{User: user, Known: user != "", Why: reason.Of(code, with)}
	}
	if t := p.testers.withKey(fingerprint); t != nil {
		return login.Outcome{OK: true, User: t.Name, Known: true, Source: Source, Groups: t.groups, Coded: true}
	}
	k, err := p.keeper.Key(ctx, fingerprint)
	switch {
	case p.Foreign != nil && len(shown.Chain) > 0 && (errors.Is(err, store.ErrNotFound) || k.Authority != "" && k.Revoked.IsZero()):
		return p.byOther(ctx, shown)
	case errors.Is(err, store.ErrNotFound):
		return refused(reason.KeyUnknown, "", reason.With{reason.Certificate: fingerprint})
	case err != nil:
		return refused(reason.LoginsLater, "", reason.With{reason.Error: err.Error()})
	case !k.Revoked.IsZero():
		return refused(reason.KeyRevoked, k.User, reason.With{reason.Certificate: fingerprint})
	}
	if len(shown.Chain) > 0 && len(k.Next) > 0 && string(shown.Chain[0]) == string(k.Next) { // the device has it
		if err := p.keeper.PromoteKey(ctx, fingerprint, k.NextSerial); err != nil {
			return refused(reason.LoginsLater, k.User, reason.With{reason.Error: err.Error()})
		}
		k.Certificate, k.Expires = k.Next, k.NextExpires
	}
	if why := p.certificate(k, shown, time.Now()); !why.None() {
		return login.Outcome{User: k.User, Known: true, Why: why}
	}
	u, err := p.User(ctx, k.User)
	if err != nil {
		return refused(reason.GroupsUnknown, k.User, nil)
	}
	if why := u.Bar(time.Now()); !why.None() {
		return login.Outcome{User: k.User, Known: true, Why: why}
	}
	stamp, _ := p.keyStamp(ctx, k)
	return login.Outcome{OK: true, User: u.Name, Known: true, Source: Source, Groups: u.Groups, Limits: u.limits(), Stamp: stamp}
}

// certificate tells why the certificate that was shown will not do; none: it is the one that was issued for the key, and valid now.
func (p *People) certificate(k store.PersonKey, shown login.Key, now time.Time) reason.Reason {
	switch {
	case len(k.Certificate) == 0 && len(shown.Chain) == 0:
		return reason.Reason{}
	case len(k.Certificate) == 0 || len(shown.Chain) == 0 || string(shown.Chain[0]) != string(k.Certificate):
		return reason.Of(reason.KeyOther, nil)
	case now.After(k.Expires):
		return reason.Of(reason.KeyExpired, reason.With{reason.Error: "it expired on " + k.Expires.Format(time.DateTime)})
	}
	return reason.Reason{}
}

// keyPrefix begins the stamps of those who proved themselves with a key: its fingerprint follows.
const keyPrefix = "key "

// keyStamp stands for a login by a key.
func (p *People) keyStamp(ctx context.Context, k store.PersonKey) (string, error) {
	own, err := p.keeper.Stamp(ctx, k.User)
	if err != nil || own == "" || !k.Revoked.IsZero() {
		return "", err
	}
	return keyPrefix + k.Fingerprint + " " + hashed(own), nil
}

// hashed is what a stamp shows of another.
func hashed(stamp string) string {
	sum := sha256.Sum256([]byte(stamp))
	return hex.EncodeToString(sum[:16])
}

// stampNow is what a stamp would be now.
func (p *People) stampNow(ctx context.Context, user, stamp string) (string, error) {
	if rest, shared := strings.CutPrefix(stamp, sharedPrefix); shared {
		return p.sharedStampNow(ctx, user, rest)
	}
	rest, byKey := strings.CutPrefix(stamp, keyPrefix)
	if !byKey {
		return p.stamp(ctx, user)
	}
	fingerprint, _, _ := strings.Cut(rest, " ")
	k, err := p.keeper.Key(ctx, fingerprint)
	if err != nil || k.User != user || !k.Expires.IsZero() && time.Now().After(k.Expires) {
		return "", err
	}
	if k.Authority != "" && (p.Foreign == nil || p.Foreign.Gone(ctx, k)) {
		return "", nil
	}
	return p.keyStamp(ctx, k)
}
