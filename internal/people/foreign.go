package people

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Foreign judges certificates that other authorities issued to people.
type Foreign interface {
	// Judge tells whom a certificate names that was shown by a tunnel, the person's first.
	Judge(ctx context.Context, tunnel string, chain [][]byte) Judged
	// Gone tells whether a certificate by which somebody logged in before counts no more.
	Gone(ctx context.Context, k store.PersonKey) bool
}

// Judged is what there is to say of one.
type Judged struct {
	Authority string // by its name in the plan; empty: it is of none of the tunnel's
	Person    string // by which name they log in, as the certificate says
	Leaf      *x509.Certificate
	Why       reason.Reason // that it will not do; none: it will
}

// byOther finds the person whom a certificate of another authority names.
func (p *People) byOther(ctx context.Context, shown login.Key) login.Outcome {
	j := p.Foreign.Judge(ctx, shown.Tunnel, shown.Chain)
	u, err := p.Called(ctx, j.Person)
	out, source := login.Outcome{User: u.Name, Known: u.Name != "", Why: j.Why}, Source
	switch {
	case j.Authority == "" && j.Why.None(): // the tunnel takes no others' at all
		out.Why = reason.Of(reason.KeyUnknown, reason.With{reason.Certificate: cert.Fingerprint(shown.Public)})
	case !j.Why.None():
	case errors.Is(err, store.ErrNotFound):
		there := p.lookedUp(ctx, j.Person)
		if there.OK {
			out.User, out.Known, u.Name, u.Groups, source = there.User, true, there.User, there.Groups, there.Source
			break
		}
		if there.Why.Code != reason.UnknownUser {
			return there
		}
		out.Why = reason.Of(reason.KeyNobody, reason.With{reason.Authority: j.Authority, reason.Name: j.Person})
	case err != nil:
		out.Why = reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})
	default:
		out.Why = u.Bar(time.Now())
	}
	if !out.Why.None() {
		return out
	}
	k := store.PersonKey{
		Fingerprint: cert.Fingerprint(shown.Public), User: u.Name, Device: deviceOf(j.Leaf), Public: shown.Public,
		Certificate: j.Leaf.Raw, Above: bytes.Join(shown.Chain[1:], nil), Serial: j.Leaf.SerialNumber.Text(16), At: time.Now().UTC(),
		Expires: j.Leaf.NotAfter.UTC(), Authority: j.Authority,
	}
	switch err := p.seen(ctx, k); {
	case errors.Is(err, store.ErrExists):
		out.Why = reason.Of(reason.KeyRevoked, reason.With{reason.Certificate: k.Fingerprint})
		return out
	case err != nil:
		out.Why = reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})
		return out
	}
	out.OK, out.Source, out.Groups, out.Limits = true, source, u.Groups, u.limits()
	out.Stamp, _ = p.keyStamp(ctx, k)
	return out
}

// deviceOf is what a certificate calls whoever has it.
func deviceOf(c *x509.Certificate) string {
	name := []rune(legible.Escape(c.Subject.CommonName))
	return string(name[:min(len(name), 64)])
}

// seen keeps what a device showed, so that it can be seen in the list of keys, and taken back here.
func (p *People) seen(ctx context.Context, k store.PersonKey) error {
	old, err := p.keeper.Key(ctx, k.Fingerprint)
	same := old.User == k.User && old.Authority == k.Authority && bytes.Equal(old.Certificate, k.Certificate)
	if err == nil && same && old.Revoked.IsZero() {
		return nil
	}
	return p.keeper.SeenKey(ctx, k)
}

// Called finds a user by a name that a certificate holds: however it is written there.
func (p *People) Called(ctx context.Context, name string) (User, error) {
	u, err := p.User(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		var own string
		if own, _, err = p.keeper.Spelled(ctx, name); err == nil {
			u, err = p.User(ctx, own)
		}
	}
	if err != nil {
		u = User{}
	}
	return u, err
}
