package handover

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base32"
	"strings"

	"software.sslmate.com/src/go-pkcs12"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/handover"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// random is a password that nobody guesses and that can be typed: 100 bits, in groups.
func random() string {
	b := make([]byte, 13)
	_, _ = rand.Read(b)
	text := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))[:20]
	return strings.Join([]string{text[:5], text[5:10], text[10:15], text[15:]}, "-")
}

// secrets makes what the kit holds that nobody else may see: a new password of the person's, where that is asked for, or a key and its
// certificate, where the tunnel wants one. Nothing of it counts before it is applied.
func (s *Service) secrets(ctx context.Context, p devices.Platform, v handover.Values, wants Wants, record *store.Kit,
) (out handover.Secrets, apply func(context.Context) error, err error) {
	apply = func(context.Context) error { return nil }
	switch {
	case wants.KeyOnDevice && (v.Login != plan.LoginCertificate || p.Word != "apple"):
		return out, nil, refusal.Invalid("a key that the device makes itself is for Apple's systems, and for a tunnel with login: certificate; " +
			"others take an invitation by hand (yl users keys invite)")
	case wants.KeyOnDevice:
		return s.invited(ctx, p, v)
	case v.Login == plan.LoginSharedKey && wants.NewPassword, v.Login == plan.LoginCertificate && wants.NewPassword:
		return out, nil, refusal.Invalid("tunnel " + v.Tunnel + " takes no password: leave the new one out")
	case v.Login == plan.LoginCertificate:
		return s.identity(ctx, p, v, record)
	case v.Login == plan.LoginSharedKey:
		out.Shared, err = s.People.SharedToLogIn(ctx, v.User)
		return out, apply, refusal.Known(err, "user", v.User)
	case wants.NewPassword:
		out.Password = random()
		apply = func(ctx context.Context) error {
			return refusal.Known(s.People.SetPassword(ctx, v.User, out.Password, false, false), "user", v.User)
		}
	}
	return out, apply, nil
}

// invited lets the device make its key itself.
func (s *Service) invited(ctx context.Context, p devices.Platform, v handover.Values,
) (out handover.Secrets, apply func(context.Context) error, err error) {
	out.Enrol, out.Challenge, err = s.Invite(ctx, v.User, "kit for "+p.Word)
	if err == nil && out.Enrol == "" {
		err = refusal.Invalid("the device would ask the service for its certificate, and nobody has said where devices reach it: say kits-at " +
			"in the plan, and start the service with --listen-kits")
	}
	out.IdentityKind = cert.RSA
	return out, func(context.Context) error { return nil }, err
}

// identity makes a key and has the own authority sign a certificate for it; the file of both (PKCS #12) has a password of its own.
func (s *Service) identity(ctx context.Context, p devices.Platform, v handover.Values, record *store.Kit,
) (out handover.Secrets, apply func(context.Context) error, err error) {
	key, err := cert.NewKeyOf(rand.Reader, p.Identity)
	if err != nil {
		return out, nil, err
	}
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return out, nil, err
	}
	device := "kit for " + p.Word
	leaf, err := s.Trust.IssuePerson(ctx, v.User, device, spki)
	if err != nil {
		return out, nil, err
	}
	authority, err := s.Trust.Own(ctx)
	if err != nil {
		return out, nil, err
	}
	encoder := pkcs12.Modern2023
	if p.OldFile {
		encoder = pkcs12.LegacyDES
	}
	out = handover.Secrets{IdentityPassword: random(), IdentityKind: p.Identity}
	if out.Identity, err = encoder.Encode(key, leaf, []*x509.Certificate{authority}, out.IdentityPassword); err != nil {
		return out, nil, err
	}
	record.Expires = leaf.NotAfter.UTC()
	return out, func(ctx context.Context) error {
		_, err := s.People.AddKey(ctx, v.User, device, spki, leaf)
		return refusal.Known(err, "user", v.User)
	}, nil
}
