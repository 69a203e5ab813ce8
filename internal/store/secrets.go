package store

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
)

// AuthorityName is the name of the service's own authority.
const AuthorityName = "authority"

// Names of the authority that is to follow it, and of the one before.
const (
	NextAuthorityName   = "authority-next"
	AuthorityBeforeName = "authority-before"
)

// OfAuthority tells whether a certificate's name is one of an authority of the service's own.
func OfAuthority(name string) bool {
	return name == AuthorityName || name == NextAuthorityName || name == AuthorityBeforeName
}

// Secret is a certificate with its key, sealed; or the key of a signing request whose certificate has not come yet.
type Secret struct {
	Name    string `gorm:"primaryKey"`
	DER     []byte
	More    []byte // certificates above it, DER, one behind the other
	Root    []byte // the authority at the top, DER, where another one signed it and it is known
	Sealed  []byte
	Pending []byte // sealed key of a signing request
	At      time.Time
}

// SharedSecret is a key that both ends know, sealed.
type SharedSecret struct {
	Name   string `gorm:"primaryKey"`
	Kind   string
	Sealed []byte
	At     time.Time
	By     string // the administrator who gave it; empty: it was given before that was kept
	For    string // digests of where it may be sent (plan.SecretUse), with spaces between; empty: nowhere yet
}

// RevokedCertificate is a certificate of the own authority that must no longer be believed.
type RevokedCertificate struct {
	Serial string `gorm:"primaryKey"` // hexadecimal
	Name   string
	Reason string
	At     time.Time
}

// IssuedCertificate is one that the own authority signed, whether it is kept still or not: it can be revoked as long as it holds.
type IssuedCertificate struct {
	Serial  string `gorm:"primaryKey"` // hexadecimal
	Name    string
	Holds   string // what it is good for, with spaces between
	At      time.Time
	Expires time.Time
}

func keyPurpose(name string) string     { return "key of certificate " + name }
func pendingPurpose(name string) string { return "key of signing request " + name }
func sharedPurpose(name string) string  { return "shared secret " + name }

// SaveCertificate keeps a certificate and its key under a name, in place of an older one; a signing request under that name is over.
func (s *Store) SaveCertificate(ctx context.Context, name string, p *cert.Pair) error {
	defer s.trust.Add(1)
	key, err := p.KeyDER()
	if err != nil {
		return err
	}
	sealed, err := s.sealed(key, keyPurpose(name))
	if err != nil {
		return err
	}
	return s.db.WithContext(ctx).Save(&Secret{
		Name: name, DER: p.DER, More: bytes.Join(p.More, nil), Root: p.Root, Sealed: sealed,
		At: time.Now().UTC(),
	}).Error
}

// Issue keeps a certificate that the own authority has just signed, and that it did, for as long as that matters.
func (s *Store) Issue(ctx context.Context, name string, p *cert.Pair) error {
	if err := s.NoteIssued(ctx, name, p.Leaf); err != nil { // first: what nobody knows of can never be revoked
		return err
	}
	return s.SaveCertificate(ctx, name, p)
}

// NoteIssued notes that the own authority signed a certificate.
func (s *Store) NoteIssued(ctx context.Context, name string, leaf *x509.Certificate) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&IssuedCertificate{
		Serial: leaf.SerialNumber.Text(16), Name: name, Holds: strings.Join(cert.Names(leaf), " "), At: leaf.NotBefore.UTC(), Expires: leaf.NotAfter.UTC(),
	}).Error
}

// Issued lists what the own authority signed, newest first.
func (s *Store) Issued(ctx context.Context) (is []IssuedCertificate, err error) {
	err = s.db.WithContext(ctx).Order("at DESC, serial").Find(&is).Error
	return is, err
}

// SavePending keeps the key of a signing request; a certificate that is kept under the name stays until the new one comes.
func (s *Store) SavePending(ctx context.Context, name string, key crypto.Signer) error {
	defer s.trust.Add(1)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	sealed, err := s.sealed(der, pendingPurpose(name))
	if err != nil {
		return err
	}
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "name"}},
		DoUpdates: clause.AssignmentColumns([]string{"pending"}),
	}).
		Create(&Secret{Name: name, Pending: sealed, At: time.Now().UTC()}).Error
}

// Pending is the key of a signing request; nil if none waits.
func (s *Store) Pending(ctx context.Context, name string) (crypto.Signer, error) {
	var c Secret
	err := translate(s.db.WithContext(ctx).First(&c, "name = ?", name).Error)
	if errors.Is(err, ErrNotFound) || err == nil && len(c.Pending) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	der, err := s.unsealed(c.Pending, pendingPurpose(name))
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, err
	}
	return key.(crypto.Signer), nil
}

// Certificate opens one by name.
func (s *Store) Certificate(ctx context.Context, name string) (*cert.Pair, error) {
	var c Secret
	if err := translate(s.db.WithContext(ctx).First(&c, "name = ?", name).Error); err != nil {
		return nil, err
	}
	if len(c.DER) == 0 { // only asked for so far
		return nil, ErrNotFound
	}
	key, err := s.unsealed(c.Sealed, keyPurpose(name))
	if err != nil {
		return nil, err
	}
	p, err := cert.Load(c.DER, c.More, key)
	if err == nil {
		p.Root = c.Root
	}
	return p, err
}

// Certificates lists the certificates and signing requests without their keys; Pending tells whether a request waits.
func (s *Store) Certificates(ctx context.Context) (cs []Secret, err error) {
	err = s.db.WithContext(ctx).Omit("sealed").Order("name").Find(&cs).Error
	return cs, err
}

// TrustVersion counts changes of certificates, secrets and administrators since the store was opened.
func (s *Store) TrustVersion() uint64 { return s.trust.Load() }

// Trusted gives each certificate by its name, without those that were revoked, and the authority.
func (s *Store) Trusted(ctx context.Context) (by map[string]*x509.Certificate, authority *x509.Certificate, err error) {
	records, err := s.Certificates(ctx)
	if err != nil {
		return nil, nil, err
	}
	revoked, err := s.Revoked(ctx)
	if err != nil {
		return nil, nil, err
	}
	by = map[string]*x509.Certificate{}
	for _, r := range records {
		leaf, err := x509.ParseCertificate(r.DER)
		switch {
		case err != nil || slices.ContainsFunc(revoked, func(x RevokedCertificate) bool { return x.Serial == leaf.SerialNumber.Text(16) }):
		case r.Name == AuthorityName:
			authority = leaf
		case OfAuthority(r.Name):
		default:
			by[r.Name] = leaf
		}
	}
	return by, authority, nil
}

// RemoveCertificate forgets a certificate with its key.
func (s *Store) RemoveCertificate(ctx context.Context, name string) error {
	defer s.trust.Add(1)
	r := s.db.WithContext(ctx).Delete(&Secret{}, "name = ?", name)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// Revoke notes that a certificate must no longer be believed.
func (s *Store) Revoke(ctx context.Context, r RevokedCertificate) error {
	defer s.trust.Add(1)
	return translate(s.db.WithContext(ctx).Create(&r).Error)
}

// Revoked lists what was revoked, oldest first.
func (s *Store) Revoked(ctx context.Context) (rs []RevokedCertificate, err error) {
	err = s.db.WithContext(ctx).Order("at").Find(&rs).Error
	return rs, err
}

// SaveShared keeps a shared secret that somebody gave; ErrExists if there is one of that name, and it is not to take its place.
func (s *Store) SaveShared(ctx context.Context, x SharedSecret, value []byte, again bool) error {
	defer s.trust.Add(1)
	var err error
	if x.Sealed, err = s.sealed(value, sharedPurpose(x.Name)); err != nil {
		return err
	}
	x.At = time.Now().UTC()
	db := s.db.WithContext(ctx)
	if again {
		db = db.Clauses(clause.OnConflict{UpdateAll: true})
	}
	return translate(db.Create(&x).Error)
}

// SharedRecord is what is known of a shared secret, without its value.
func (s *Store) SharedRecord(ctx context.Context, name string) (x SharedSecret, err error) {
	err = translate(s.db.WithContext(ctx).Omit("sealed").First(&x, "name = ?", name).Error)
	return x, err
}

// BindShared notes where shared secrets are sent from now on, by their names: nowhere else.
func (s *Store) BindShared(ctx context.Context, to map[string]string) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		for name, digests := range to {
			if err := db.Model(&SharedSecret{}).Where("name = ?", name).Update("for", digests).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Shared opens a shared secret.
func (s *Store) Shared(ctx context.Context, name string) ([]byte, error) {
	var x SharedSecret
	if err := translate(s.db.WithContext(ctx).First(&x, "name = ?", name).Error); err != nil {
		return nil, err
	}
	return s.unsealed(x.Sealed, sharedPurpose(name))
}

// AllShared lists the shared secrets without their values.
func (s *Store) AllShared(ctx context.Context) (xs []SharedSecret, err error) {
	err = s.db.WithContext(ctx).Omit("sealed").Order("name").Find(&xs).Error
	return xs, err
}

// RemoveShared forgets a shared secret.
func (s *Store) RemoveShared(ctx context.Context, name string) error {
	defer s.trust.Add(1)
	r := s.db.WithContext(ctx).Delete(&SharedSecret{}, "name = ?", name)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// bindSecrets has secrets that the newest revision sends somewhere bound to that.
func bindSecrets(db *gorm.DB) error {
	if err := db.AutoMigrate(&SharedSecret{}); err != nil {
		return err
	}
	if err := db.Exec("UPDATE shared_secrets SET by = '', `for` = ''").Error; err != nil {
		return err
	}
	var newest Revision
	if err := translate(db.Order("number DESC").First(&newest).Error); err != nil {
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		return err
	}
	doc, err := plan.Read(newest.Text)
	if err != nil { // it does not run either
		return nil
	}
	for _, u := range doc.Plan.SecretUses() {
		err := db.Exec("UPDATE shared_secrets SET `for` = trim(`for` || ' ' || ?) WHERE name = ?", u.Digest(), u.Secret).Error
		if err != nil {
			return err
		}
	}
	return nil
}
