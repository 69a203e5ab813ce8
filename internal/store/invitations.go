package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
)

// Invitation lets a device have a certificate issued for a key that it makes itself, once. The word in it is known by its digest alone.
type Invitation struct {
	Digest      string `gorm:"primaryKey"`
	User        string `gorm:"index"`
	Device      string
	By          string
	At, Expires time.Time
	UsedBy      string // the fingerprint of the key that it was used for; empty: it counts
}

// SaveInvitation keeps one.
func (s *Store) SaveInvitation(ctx context.Context, i Invitation) error {
	return translate(s.db.WithContext(ctx).Create(&i).Error)
}

// Invitations lists them, the newest first; of one person, or where none is named, of everybody.
func (s *Store) Invitations(ctx context.Context, user string) (out []Invitation, err error) {
	q := s.db.WithContext(ctx).Order("at DESC, digest").Limit(1000)
	if user != "" {
		q = q.Where("user = ?", user)
	}
	err = q.Find(&out).Error
	return out, err
}

// TakeInvitation uses one up for a key; the same key may come again, for an answer may have been lost. ErrNotFound: there is none, or it
// is over, or was used for another key.
func (s *Store) TakeInvitation(ctx context.Context, digest, fingerprint string, now time.Time) (i Invitation, err error) {
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		err := translate(db.First(&i, "digest = ?", digest).Error)
		switch {
		case err != nil:
			return err
		case now.After(i.Expires) || i.UsedBy != "" && i.UsedBy != fingerprint:
			return ErrNotFound
		}
		return db.Model(&Invitation{}).Where("digest = ?", digest).Update("used_by", fingerprint).Error
	})
	return i, err
}

// RemoveInvitation takes one back by the first letters of its digest. ErrNotFound: none begins so, or several do.
func (s *Store) RemoveInvitation(ctx context.Context, prefix string) (i Invitation, err error) {
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		var all []Invitation
		if err := db.Where("substr(digest, 1, ?) = ?", len(prefix), prefix).Limit(2).Find(&all).Error; err != nil {
			return err
		}
		if len(all) != 1 || len(prefix) < 8 {
			return errors.Join(ErrNotFound)
		}
		i = all[0]
		return db.Delete(&Invitation{}, "digest = ?", i.Digest).Error
	})
	return i, err
}
