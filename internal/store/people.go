package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"gorm.io/gorm"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/reason"
)

// User is a person who may connect. The NT hash of the password is as good as the password: it is sealed, and never
// leaves this package.
type User struct {
	Name     string `gorm:"primaryKey"`
	FullName string
	Off      bool
	Sealed   []byte `json:"-"`
	// Forgotten counts how often what devices remember of the person was made worthless.
	Forgotten int
	At        time.Time
	Groups    []Membership `gorm:"foreignKey:User;references:Name;constraint:OnDelete:CASCADE"`
}

// Membership puts a user into a group.
type Membership struct {
	User  string `gorm:"primaryKey"`
	Group string `gorm:"primaryKey;column:group_name"`
}

func purpose(user string) string { return "nt hash of " + user }

// Users lists everybody by name, with groups: one pass over one join, for there may be ten thousand.
func (s *Store) Users(ctx context.Context) (us []User, err error) {
	rows, err := s.db.WithContext(ctx).Raw("SELECT u.name, u.full_name, u.off, u.at, COALESCE(m.group_name, '') FROM users u LEFT JOIN memberships m ON m.user = u.name ORDER BY u.name, m.group_name").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var u User
		var group string
		if err := rows.Scan(&u.Name, &u.FullName, &u.Off, &u.At, &group); err != nil {
			return nil, err
		}
		if len(us) == 0 || us[len(us)-1].Name != u.Name {
			us = append(us, u)
		}
		if last := &us[len(us)-1]; group != "" {
			last.Groups = append(last.Groups, Membership{u.Name, group})
		}
	}
	return us, rows.Err()
}

// PeopleVersion counts changes of people and their groups since the store was opened.
func (s *Store) PeopleVersion() uint64 { return s.people.Load() }

// User finds one by name, with groups.
func (s *Store) User(ctx context.Context, name string) (u User, err error) {
	err = translate(s.db.WithContext(ctx).Preload("Groups").First(&u, "name = ?", name).Error)
	u.Sealed = nil
	return u, err
}

// AddUser adds a person with a password.
func (s *Store) AddUser(ctx context.Context, u User, password string) error {
	defer s.people.Add(1)
	hash := eap.NTHash(password)
	var err error
	if u.Sealed, err = s.sealed(hash[:], purpose(u.Name)); err != nil {
		return err
	}
	u.At = time.Now().UTC()
	return translate(s.db.WithContext(ctx).Create(&u).Error)
}

// ChangeUser writes name, activity and groups. A nil list of groups leaves them as they are.
func (s *Store) ChangeUser(ctx context.Context, u User, groups []string) error {
	defer s.people.Add(1)
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		r := db.Model(&User{}).Where("name = ?", u.Name).Updates(map[string]any{"full_name": u.FullName, "off": u.Off})
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil || groups == nil {
			return r.Error
		}
		if err := db.Delete(&Membership{}, "user = ?", u.Name).Error; err != nil {
			return err
		}
		for _, g := range groups {
			if err := db.Create(&Membership{u.Name, g}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// SetPassword replaces a password.
func (s *Store) SetPassword(ctx context.Context, name, password string) error {
	hash := eap.NTHash(password)
	sealed, err := s.sealed(hash[:], purpose(name))
	if err != nil {
		return err
	}
	r := s.db.WithContext(ctx).Model(&User{}).Where("name = ?", name).Update("sealed", sealed)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// Stamp stands for what a person logs in with: it is another once their password changes, or their devices are to be forgotten. It is empty
// for somebody who is switched off.
func (s *Store) Stamp(ctx context.Context, name string) (string, error) {
	var u User
	if err := translate(s.db.WithContext(ctx).First(&u, "name = ?", name).Error); err != nil || u.Off {
		return "", err
	}
	sum := sha256.Sum256(fmt.Appendf(append([]byte{}, u.Sealed...), " %d", u.Forgotten))
	return hex.EncodeToString(sum[:16]), nil
}

// ForgetDevices makes worthless what a person's devices have to come back by without logging in anew. Somebody who is not the service's own
// has nothing like it.
func (s *Store) ForgetDevices(ctx context.Context, name string) error {
	return s.db.WithContext(ctx).Model(&User{}).Where("name = ?", name).Update("forgotten", gorm.Expr("forgotten + 1")).Error
}

// RemoveUser forgets a person.
func (s *Store) RemoveUser(ctx context.Context, name string) error {
	defer s.people.Add(1)
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		r := db.Delete(&User{}, "name = ?", name)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		for _, of := range []any{&Kit{}, &KitLink{}, &PersonShared{}} {
			if err := db.Delete(of, "user = ?", name).Error; err != nil {
				return err
			}
		}
		// Their keys stay known, and count no more.
		return db.Model(&PersonKey{}).Where("user = ? AND revoked < ?", name, time.Unix(0, 0).UTC()).
			Update("revoked", time.Now().UTC()).Error
	})
}

// JudgeLogin compares a login round with the hash that is kept.
func (s *Store) JudgeLogin(ctx context.Context, c eap.Check) (eap.Verdict, error) {
	var u User
	if err := translate(s.db.WithContext(ctx).First(&u, "name = ?", c.User).Error); err != nil {
		return eap.Verdict{}, err
	}
	if u.Off {
		return eap.Verdict{Refusal: reason.Of(reason.SwitchedOff, nil), Known: true}, nil
	}
	hash, err := s.unsealed(u.Sealed, purpose(u.Name))
	if err != nil {
		return eap.Verdict{}, err
	}
	return c.Judge([eap.NTHashLen]byte(hash)), nil
}
