package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
)

// ErrLast is where nobody would be left who may do everything.
var ErrLast = errors.New("store: the last of its kind")

// WholeRole is that of whoever may do everything.
const WholeRole = "administrator"

// Administrators lists them by name.
func (s *Store) Administrators(ctx context.Context) (as []Administrator, err error) {
	err = s.db.WithContext(ctx).Order("name").Find(&as).Error
	return as, err
}

// AddAdministrator adds one; ErrExists where there is one of that name.
func (s *Store) AddAdministrator(ctx context.Context, a Administrator) error {
	defer s.trust.Add(1)
	return translate(s.db.WithContext(ctx).Create(&a).Error)
}

// SaveElsewhere keeps what a source says of an administrator of its own.
func (s *Store) SaveElsewhere(ctx context.Context, a Administrator) error {
	defer s.trust.Add(1)
	return s.db.WithContext(ctx).Save(&a).Error
}

// SetRole gives one another role; ErrLast where nobody would be left who may do everything.
func (s *Store) SetRole(ctx context.Context, name, role string) error {
	return s.unlessLast(ctx, name, role != WholeRole, func(db *gorm.DB) *gorm.DB {
		return db.Model(&Administrator{}).Where("name = ?", name).Update("role", role)
	})
}

// RemoveAdministrator removes one with what they are signed in by; ErrLast as SetRole.
func (s *Store) RemoveAdministrator(ctx context.Context, name string) error {
	defer s.trust.Add(1)
	return s.unlessLast(ctx, name, true, func(db *gorm.DB) *gorm.DB {
		for _, kind := range []any{&ConsoleSession{}, &Token{}} {
			if r := db.Where("administrator = ?", name).Delete(kind); r.Error != nil {
				return r
			}
		}
		return db.Delete(&Administrator{}, "name = ?", name)
	})
}

func (s *Store) unlessLast(ctx context.Context, name string, leaves bool, do func(*gorm.DB) *gorm.DB) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		var others int64
		if err := db.Model(&Administrator{}).Where("name <> ? AND role = ? AND source = ''", name,
			WholeRole).Count(&others).Error; err != nil {
			return err
		}
		r := do(db)
		switch {
		case r.Error != nil:
			return r.Error
		case r.RowsAffected == 0:
			return ErrNotFound
		case leaves && others == 0:
			return ErrLast
		}
		return nil
	})
}

// UsedToken notes that a token was used.
func (s *Store) UsedToken(ctx context.Context, hash string, at time.Time) error {
	return s.db.WithContext(ctx).Model(&Token{}).Where("hash = ?", hash).Update("used", at.UTC()).Error
}
