package store

import (
	"context"
	"time"

	"yellowlantern/internal/core/cert"
)

// AuthorityName is the name of the service's own authority.
const AuthorityName = "authority"

// Secret is a certificate with its key, sealed.
type Secret struct {
	Name   string `gorm:"primaryKey"`
	DER    []byte
	Sealed []byte
	At     time.Time
}

// SaveCertificate keeps a certificate and its key under a name, in place of an older one.
func (s *Store) SaveCertificate(ctx context.Context, name string, p *cert.Pair) error {
	key, err := p.KeyDER()
	if err != nil {
		return err
	}
	sealed, err := s.sealed(key, "key of certificate "+name)
	if err != nil {
		return err
	}
	return s.db.WithContext(ctx).Save(&Secret{Name: name, DER: p.DER, Sealed: sealed, At: time.Now().UTC()}).Error
}

// Certificate opens one by name.
func (s *Store) Certificate(ctx context.Context, name string) (*cert.Pair, error) {
	var c Secret
	if err := translate(s.db.WithContext(ctx).First(&c, "name = ?", name).Error); err != nil {
		return nil, err
	}
	key, err := s.unsealed(c.Sealed, "key of certificate "+name)
	if err != nil {
		return nil, err
	}
	return cert.Load(c.DER, key)
}

// Certificates lists the certificates without their keys.
func (s *Store) Certificates(ctx context.Context) (cs []Secret, err error) {
	err = s.db.WithContext(ctx).Omit("sealed").Order("name").Find(&cs).Error
	return cs, err
}
