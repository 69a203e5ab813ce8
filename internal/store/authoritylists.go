package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// AuthorityList is a revocation list of another authority, as it was had last.
type AuthorityList struct {
	Authority string `gorm:"primaryKey"` // by its name in the plan
	Source    string `gorm:"primaryKey"` // its address, or that it was given by hand
	DER       []byte
	Fetched   time.Time
}

// AuthorityLists gives all of them.
func (s *Store) AuthorityLists(ctx context.Context) (out []AuthorityList, err error) {
	err = s.db.WithContext(ctx).Order("authority, source").Find(&out).Error
	return out, err
}

// KeepAuthorityList keeps one in the place of the one before.
func (s *Store) KeepAuthorityList(ctx context.Context, l AuthorityList) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&l).Error
}
