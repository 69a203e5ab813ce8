package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// PasswordLink lets a person choose a password once, by the digest of the link's token.
type PasswordLink struct {
	Hash  string `gorm:"primaryKey"`
	User  string `gorm:"index"`
	By    string // who made it
	At    time.Time
	Until time.Time
}

// AddPasswordLink keeps one, in place of what the person had before, and forgets those whose time is over.
func (s *Store) AddPasswordLink(ctx context.Context, l PasswordLink) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Delete(&PasswordLink{}, "user = ? OR until < ?", l.User, time.Now().UTC()).Error; err != nil {
			return err
		}
		l.At, l.Until = l.At.UTC(), l.Until.UTC()
		return db.Create(&l).Error
	})
}

// PasswordLink finds one whose time is not over.
func (s *Store) PasswordLink(ctx context.Context, hash string) (l PasswordLink, err error) {
	err = translate(s.db.WithContext(ctx).First(&l, "hash = ? AND until > ?", hash, time.Now().UTC()).Error)
	return l, err
}

// UsePasswordLink takes one away; ErrNotFound where it was used already.
func (s *Store) UsePasswordLink(ctx context.Context, hash string) error {
	r := s.db.WithContext(ctx).Delete(&PasswordLink{}, "hash = ? AND until > ?", hash, time.Now().UTC())
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
