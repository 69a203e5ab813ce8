package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// What a person does by a link.
const (
	ForPassword = ""
	ForFactor   = "second factor"
)

// ByPage made a link that somebody asked for without signing in: it leaves one that an administrator has made as it is.
const ByPage = "the page of forgotten passwords"

// PersonLink lets a person do something once, by the digest of the link's token.
type PersonLink struct {
	Hash   string `gorm:"primaryKey"`
	User   string `gorm:"index"`
	What   string `gorm:"default:''"`
	By     string // who made it
	Sealed []byte `json:"-"` // what is shown by it and kept once it is confirmed; nil: nothing yet
	At     time.Time
	Until  time.Time
}

// TableName is what the first of them were for.
func (PersonLink) TableName() string { return "password_links" }

func linkPurpose(hash string) string { return "what is shown by a link " + hash }

// AddPersonLink keeps one, in place of what the person had before for the same from an administrator, or from ByPage, and
// forgets those whose time is over.
func (s *Store) AddPersonLink(ctx context.Context, l PersonLink) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Delete(&PersonLink{}, "user = ? AND what = ? AND (by = ?) = ? OR until < ?", l.User, l.What, ByPage, l.By == ByPage,
			time.Now().UTC()).Error; err != nil {
			return err
		}
		l.At, l.Until = l.At.UTC(), l.Until.UTC()
		return db.Create(&l).Error
	})
}

// PersonLink finds one whose time is not over.
func (s *Store) PersonLink(ctx context.Context, what, hash string) (l PersonLink, err error) {
	err = translate(s.db.WithContext(ctx).First(&l, "hash = ? AND what = ? AND until > ?", hash, what, time.Now().UTC()).Error)
	return l, err
}

// ShownBy gives what is shown by a link: what it was before, or else what make makes.
func (s *Store) ShownBy(ctx context.Context, hash string, make func() ([]byte, error)) (shown []byte, err error) {
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		var l PersonLink
		if err := translate(db.First(&l, "hash = ? AND until > ?", hash, time.Now().UTC()).Error); err != nil {
			return err
		}
		if l.Sealed != nil {
			shown, err = s.unsealed(l.Sealed, linkPurpose(hash))
			return err
		}
		if shown, err = make(); err != nil {
			return err
		}
		sealed, err := s.sealed(shown, linkPurpose(hash))
		if err != nil {
			return err
		}
		return db.Model(&l).Update("sealed", sealed).Error
	})
	return shown, err
}

// UsePersonLink takes one away, with what else the person has for the same; ErrNotFound where it was used already.
func (s *Store) UsePersonLink(ctx context.Context, what, hash string) error {
	return usePersonLink(s.db.WithContext(ctx), what, hash)
}

func usePersonLink(db *gorm.DB, what, hash string) error {
	whose := db.Session(&gorm.Session{NewDB: true}).Model(&PersonLink{}).Select("user").
		Where("hash = ? AND what = ? AND until > ?", hash, what, time.Now().UTC())
	r := db.Delete(&PersonLink{}, "what = ? AND user IN (?)", what, whose)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
