package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// PersonKey is a public key by which a person proves who they are: with a certificate of the own authority for it, or without one.
type PersonKey struct {
	Fingerprint string `gorm:"primaryKey"` // of the SubjectPublicKeyInfo
	User        string `gorm:"index"`
	Device      string // what it is on, in the administrator's words
	Public      []byte // SubjectPublicKeyInfo, DER
	Certificate []byte // DER; empty: a raw key
	Serial      string // of the certificate
	At          time.Time
	Expires     time.Time // of the certificate
	Revoked     time.Time // zero: it counts
}

// AddKey keeps a person's key. ErrExists: somebody has it already. ErrNotFound: there is no such person.
func (s *Store) AddKey(ctx context.Context, k PersonKey) error {
	defer s.people.Add(1)
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := translate(db.First(&User{}, "name = ?", k.User).Error); err != nil {
			return err
		}
		return translate(db.Create(&k).Error)
	})
}

// Keys lists keys, of one person or, where none is named, of everybody.
func (s *Store) Keys(ctx context.Context, user string) (ks []PersonKey, err error) {
	q := s.db.WithContext(ctx).Order("user, at, fingerprint")
	if user != "" {
		q = q.Where("user = ?", user)
	}
	err = q.Find(&ks).Error
	return ks, err
}

// Key finds one by its fingerprint.
func (s *Store) Key(ctx context.Context, fingerprint string) (k PersonKey, err error) {
	err = translate(s.db.WithContext(ctx).First(&k, "fingerprint = ?", fingerprint).Error)
	return k, err
}

// RenewKey keeps what has become of a key that counts.
func (s *Store) RenewKey(ctx context.Context, k PersonKey) error {
	defer s.people.Add(1)
	return s.db.WithContext(ctx).Save(&k).Error
}

// RevokeKey takes a key back; it stays known, so that it never comes back as somebody else's.
func (s *Store) RevokeKey(ctx context.Context, fingerprint string, at time.Time) error {
	defer s.people.Add(1)
	r := s.db.WithContext(ctx).Model(&PersonKey{}).Where("fingerprint = ?", fingerprint).Update("revoked", at.UTC())
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
