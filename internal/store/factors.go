package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Factor is something that gives a person codes that count once, whichever source keeps them.
type Factor struct {
	ID     string `gorm:"primaryKey"` // random; no secret
	User   string `gorm:"index"`
	Kind   string
	Device string // what gives the codes, in somebody's words
	Sealed []byte `json:"-"`
	Next   uint64 // the first place in its row whose code was not used
	At     time.Time
	Used   time.Time
}

// RecoveryCode counts once in place of a code, by its digest.
type RecoveryCode struct {
	Hash string `gorm:"primaryKey"`
	User string `gorm:"index"`
}

// CodedKey is when somebody gave their second factor by a device with a key of its own.
type CodedKey struct {
	User string `gorm:"primaryKey"`
	Key  string `gorm:"primaryKey"`
	At   time.Time
}

func factorPurpose(id string) string { return "second factor " + id }

// AddFactor gives a person a second factor, with recovery codes in place of those that they had (nil: those stay); those of a link use it
// up, and it must count: ErrNotFound otherwise, and nothing is kept.
func (s *Store) AddFactor(ctx context.Context, f Factor, secret []byte, recovery []string, link string) (err error) {
	defer s.people.Add(1)
	if f.Sealed, err = s.sealed(secret, factorPurpose(f.ID)); err != nil {
		return err
	}
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if link != "" {
			if err := usePersonLink(db, ForFactor, link); err != nil {
				return err
			}
		}
		if recovery != nil {
			if err := db.Delete(&RecoveryCode{}, "user = ?", f.User).Error; err != nil {
				return err
			}
		}
		for _, hash := range recovery {
			if err := db.Create(&RecoveryCode{hash, f.User}).Error; err != nil {
				return err
			}
		}
		return translate(db.Create(&f).Error)
	})
}

// Factors lists those of a person, or of everybody, without their secrets.
func (s *Store) Factors(ctx context.Context, user string) (fs []Factor, err error) {
	q := s.db.WithContext(ctx).Omit("sealed").Order("user, at, id")
	if user != "" {
		q = q.Where("user = ?", user)
	}
	err = q.Find(&fs).Error
	return fs, err
}

// FactorSecret opens the secret of one.
func (s *Store) FactorSecret(ctx context.Context, id string) (f Factor, secret []byte, err error) {
	if err = translate(s.db.WithContext(ctx).First(&f, "id = ?", id).Error); err == nil {
		secret, err = s.unsealed(f.Sealed, factorPurpose(id))
	}
	return f, secret, err
}

// UseFactor notes that a code was used: the first that was not is next then. ErrNotFound: somebody else used it, or a later one, meanwhile.
func (s *Store) UseFactor(ctx context.Context, id string, next uint64, at time.Time) error {
	r := s.db.WithContext(ctx).Model(&Factor{}).Where("id = ? AND next < ?", id, next).Updates(map[string]any{
		"next": next,
		"used": at.UTC(),
	})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// UseSecurityKey keeps a security key as it is after it was used.
func (s *Store) UseSecurityKey(ctx context.Context, id string, kept []byte, at time.Time) error {
	sealed, err := s.sealed(kept, factorPurpose(id))
	if err != nil {
		return err
	}
	r := s.db.WithContext(ctx).Model(&Factor{}).Where("id = ?", id).Updates(map[string]any{"sealed": sealed, "used": at.UTC()})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// UseRecovery uses a recovery code up; ErrNotFound: the person has none like it.
func (s *Store) UseRecovery(ctx context.Context, user, hash string) error {
	r := s.db.WithContext(ctx).Delete(&RecoveryCode{}, "hash = ? AND user = ?", hash, user)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// RecoveryLeft counts the recovery codes that each person has left.
func (s *Store) RecoveryLeft(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		User string
		N    int
	}
	err := s.db.WithContext(ctx).Model(&RecoveryCode{}).Select("user, count(*) AS n").Group("user").Find(&rows).Error
	out := map[string]int{}
	for _, r := range rows {
		out[r.User] = r.N
	}
	return out, err
}

// ForgetFactors forgets a person's second factors, recovery codes, links to another one, and which devices were remembered. It gives how
// many factors there were.
func (s *Store) ForgetFactors(ctx context.Context, user string) (n int, err error) {
	defer s.people.Add(1)
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		r := db.Delete(&Factor{}, "user = ?", user)
		n = int(r.RowsAffected)
		if r.Error != nil {
			return r.Error
		}
		return forgetCoded(db, user)
	})
	return n, err
}

func forgetCoded(db *gorm.DB, user string) error {
	if err := db.Delete(&PersonLink{}, "user = ? AND what = ?", user, ForFactor).Error; err != nil {
		return err
	}
	for _, of := range []any{&RecoveryCode{}, &CodedKey{}} {
		if err := db.Delete(of, "user = ?", user).Error; err != nil {
			return err
		}
	}
	return nil
}

// SetCoded notes that somebody gave their second factor by a device with these keys.
func (s *Store) SetCoded(ctx context.Context, user string, keys []string, at time.Time) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		for _, k := range keys {
			if err := db.Save(&CodedKey{user, k, at.UTC()}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Coded is when somebody gave it last by a device with all of these keys; the zero time: never.
func (s *Store) Coded(ctx context.Context, user string, keys []string) (at time.Time, err error) {
	var known []CodedKey
	if err := s.db.WithContext(ctx).Find(&known, "user = ? AND key IN ?", user, keys).Error; err != nil || len(known) < len(keys) {
		return at, err
	}
	for i, k := range known {
		if i == 0 || k.At.Before(at) {
			at = k.At
		}
	}
	return at, nil
}
