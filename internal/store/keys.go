package store

import (
	"context"
	"errors"
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
	Above       []byte    // the certificates between it and another authority, DER, one after the other
	Authority   string    // who issued it, by its name in the plan; empty: the own authority
	Revoked     time.Time // zero: it counts
	// Next is the certificate that takes the place of Certificate once the device shows it; none: there is none.
	Next        []byte
	NextSerial  string
	NextExpires time.Time
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

// SeenKey keeps a key whose certificate another authority issued, or what has become of it. ErrExists: an administrator took it back
// meanwhile, or it is somebody's by the own authority.
func (s *Store) SeenKey(ctx context.Context, k PersonKey) error {
	defer s.people.Add(1)
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		old := PersonKey{}
		switch err := translate(db.First(&old, "fingerprint = ?", k.Fingerprint).Error); {
		case errors.Is(err, ErrNotFound):
			return translate(db.Create(&k).Error)
		case err != nil:
			return err
		case !old.Revoked.IsZero() || old.Authority == "":
			return ErrExists
		}
		k.At = old.At
		return db.Save(&k).Error
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

// ForeignKeys lists those whose certificates other authorities issued.
func (s *Store) ForeignKeys(ctx context.Context) (ks []PersonKey, err error) {
	err = s.db.WithContext(ctx).Where("authority <> ''").Find(&ks).Error
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

// NextOfKey keeps the certificate that is to follow a key's own, in the place of the one with that serial. ErrNotFound: another took its
// place meanwhile, or the key counts no more.
func (s *Store) NextOfKey(ctx context.Context, fingerprint, was string, der []byte, serial string, expires time.Time) error {
	r := s.db.WithContext(ctx).Model(&PersonKey{}).
		Where("fingerprint = ? AND revoked < ? AND COALESCE(next_serial, '') = ?", fingerprint, time.Unix(0, 0).UTC(), was).
		Updates(map[string]any{"next": der, "next_serial": serial, "next_expires": expires})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// PromoteKey lets the next certificate of a key take the place of the one before, if it is the one of that serial still.
func (s *Store) PromoteKey(ctx context.Context, fingerprint, serial string) error {
	defer s.people.Add(1)
	key := s.db.WithContext(ctx).Model(&PersonKey{}).Where("fingerprint = ? AND next_serial = ?", fingerprint, serial)
	return key.Updates(map[string]any{
		"certificate": gorm.Expr("next"), "serial": serial, "expires": gorm.Expr("next_expires"), "next": nil, "next_serial": "",
		"next_expires": time.Time{},
	}).Error
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
