package people

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/store"
)

// Errors of renewals by devices.
var (
	ErrNotRenewed = errors.New("there is no certificate of this key that could be renewed: it was taken back, is over, or is of nobody; " +
		"ask the administrator for another one")
	ErrNotDue = fmt.Errorf("its certificate is renewed in its last %d days, not before", int(cert.RenewWithin.Hours()/24))
)

// NextCertificate gives a device a newer certificate for its key: who has the key has signed the request, and is as good as whoever shows
// the certificate. The older one counts until the newer one is shown, so that an answer that gets lost leaves nobody outside; asked again
// it is the same one. issue signs it.
func (p *People) NextCertificate(ctx context.Context, request string, now time.Time,
	issue func(user, device string, spki []byte) (*x509.Certificate, error),
) (string, error) {
	spki, asks, err := ReadPublic(request)
	if err != nil {
		return "", err
	}
	k, err := p.keeper.Key(ctx, cert.Fingerprint(spki))
	if err != nil || !asks || !k.Revoked.IsZero() || len(k.Certificate) == 0 || k.Authority != "" || now.After(k.Expires) {
		return "", ErrNotRenewed
	}
	if u, err := p.User(ctx, k.User); err != nil || u.Off {
		return "", ErrNotRenewed
	}
	switch {
	case len(k.Next) > 0 && k.NextExpires.Sub(now) > cert.RenewWithin:
		return certificatePEM(k.Next), nil
	case k.Expires.Sub(now) > cert.RenewWithin:
		return "", ErrNotDue
	}
	leaf, err := issue(k.User, k.Device, spki)
	if err != nil {
		return "", err
	}
	err = p.keeper.NextOfKey(ctx, k.Fingerprint, k.NextSerial, leaf.Raw, leaf.SerialNumber.Text(16), leaf.NotAfter.UTC())
	if errors.Is(err, store.ErrNotFound) { // asked for twice at once: only one of both counts
		if k, err = p.keeper.Key(ctx, k.Fingerprint); err != nil || !k.Revoked.IsZero() || len(k.Next) == 0 {
			return "", ErrNotRenewed
		}
		return certificatePEM(k.Next), nil
	}
	return certificatePEM(leaf.Raw), err
}

func certificatePEM(der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}
