package store

import (
	"cmp"
	"context"
	"time"

	"gorm.io/gorm"
)

// EnrolledProbe is a machine elsewhere that tries when it is asked to; before it enrolled, it is an invitation.
type EnrolledProbe struct {
	Name    string `gorm:"primaryKey"`
	By      string // who invited it
	Invited time.Time
	Code    []byte // digest of what it enrolls with; nil: it has
	Until   time.Time
	Key     []byte // SubjectPublicKeyInfo; nil: it has not enrolled
	Since   time.Time
	From    string // where it enrolled from
}

func enrolledProbes(db *gorm.DB) error { return db.AutoMigrate(&EnrolledProbe{}) }

// InviteProbe keeps an invitation, in place of one of the same name that nobody used. ErrExists: there is such a probe.
func (s *Store) InviteProbe(ctx context.Context, p EnrolledProbe) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := db.Delete(&EnrolledProbe{}, "name = ? AND key IS NULL", p.Name).Error; err != nil {
			return err
		}
		return translate(db.Create(&p).Error)
	})
}

// EnrolProbe makes of an invitation a probe with a key. ErrNotFound: no invitation of that name and code counts at that time.
func (s *Store) EnrolProbe(ctx context.Context, name string, code, key []byte, from string, now time.Time) error {
	valid := s.db.WithContext(ctx).Model(&EnrolledProbe{}).
		Where("name = ? AND code = ? AND key IS NULL AND until > ?", name, code, now.UTC()).Session(&gorm.Session{})
	var n int64
	if err := valid.Count(&n).Error; err != nil || n == 0 { // strangers ask: they write nothing
		return cmp.Or(err, ErrNotFound)
	}
	r := valid.Updates(map[string]any{"code": nil, "key": key, "since": now.UTC(), "from": from})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// EnrolledProbes lists probes and invitations, by name.
func (s *Store) EnrolledProbes(ctx context.Context) (out []EnrolledProbe, err error) {
	err = s.db.WithContext(ctx).Order("name").Find(&out).Error
	return out, err
}

// EnrolledProbe is one that enrolled.
func (s *Store) EnrolledProbe(ctx context.Context, name string) (p EnrolledProbe, err error) {
	err = translate(s.db.WithContext(ctx).First(&p, "name = ? AND key IS NOT NULL", name).Error)
	return p, err
}

// RemoveProbe forgets a probe, or its invitation.
func (s *Store) RemoveProbe(ctx context.Context, name string) error {
	r := s.db.WithContext(ctx).Delete(&EnrolledProbe{}, "name = ?", name)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
