package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// PersonShared is a key that a person and the gateway both know, sealed: one to log in by, or one that is mixed into keys for traffic.
type PersonShared struct {
	ID      string `gorm:"primaryKey"` // random; no secret
	User    string `gorm:"index"`
	Device  string // what it is on, in the administrator's words
	MixedIn bool
	Sealed  []byte
	At      time.Time
}

func personSharedPurpose(id string) string { return "shared key of a person " + id }

// AddPersonShared keeps a key; ErrNotFound: there is no such person. ErrExists: they have one to log in by already, and it is not one that
// is mixed in.
func (s *Store) AddPersonShared(ctx context.Context, k PersonShared, secret []byte) (err error) {
	defer s.people.Add(1)
	if k.Sealed, err = s.sealed(secret, personSharedPurpose(k.ID)); err != nil {
		return err
	}
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := translate(db.First(&User{}, "name = ?", k.User).Error); err != nil {
			return err
		}
		var n int64
		if err := db.Model(&PersonShared{}).Where("user = ? AND NOT mixed_in", k.User).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 && !k.MixedIn {
			return ErrExists
		}
		return translate(db.Create(&k).Error)
	})
}

// PersonShareds lists keys without their values, of one person or, where none is named, of everybody.
func (s *Store) PersonShareds(ctx context.Context, user string) (ks []PersonShared, err error) {
	q := s.db.WithContext(ctx).Omit("sealed").Order("user, mixed_in, at, id")
	if user != "" {
		q = q.Where("user = ?", user)
	}
	err = q.Find(&ks).Error
	return ks, err
}

// PersonShared opens a key: one that is mixed in by its ID, one to log in by by whose it is.
func (s *Store) PersonShared(ctx context.Context, mixedIn bool, of string) (k PersonShared, secret []byte, err error) {
	q := s.db.WithContext(ctx).Where("user = ? AND NOT mixed_in", of)
	if mixedIn {
		q = s.db.WithContext(ctx).Where("id = ? AND mixed_in", of)
	}
	if err = translate(q.First(&k).Error); err == nil {
		secret, err = s.unsealed(k.Sealed, personSharedPurpose(k.ID))
	}
	return k, secret, err
}

// RemovePersonShared forgets a key, and gives what it was. What its person's devices have to come back by is worth nothing from then on.
func (s *Store) RemovePersonShared(ctx context.Context, id string) (k PersonShared, err error) {
	defer s.people.Add(1)
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if err := translate(db.Omit("sealed").First(&k, "id = ?", id).Error); err != nil {
			return err
		}
		if err := db.Model(&User{}).Where("name = ?", k.User).Update("forgotten", gorm.Expr("forgotten + 1")).Error; err != nil {
			return err
		}
		return db.Delete(&PersonShared{}, "id = ?", id).Error
	})
	return k, err
}
