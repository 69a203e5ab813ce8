package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"yellowlantern/internal/core/fold"

	"gorm.io/gorm"
)

// User is a person who may connect. The NT hash of the password is as good as the password: it is sealed, and opened
// for whoever judges an answer to a challenge alone.
type User struct {
	Name     string `gorm:"primaryKey"`
	Folded   string `gorm:"index"` // the name as fold.Name has it: two people never have the same
	FullName string
	Off      bool
	Mail     string
	// Until, Hours, Sessions and Tunnels are the person's own limits; the zero values say nothing. Tunnels are separated by spaces.
	Until    time.Time
	Hours    string
	Sessions int
	Tunnels  string
	Sealed   []byte `json:"-"`
	Hashed   bool   // what is sealed judges a password that is handed over, and no answer to a challenge
	// MustChange is that the password was made by somebody else, and counts only until another is chosen.
	MustChange bool
	PasswordAt time.Time
	// Ended is when an administrator set a password that ends sessions from before it.
	Ended time.Time
	// Forgotten counts how often what devices remember of the person was made worthless.
	Forgotten int
	At        time.Time
	Groups    []Membership `gorm:"foreignKey:User;references:Name;constraint:OnDelete:CASCADE"`
}

// Membership puts a user into a group.
type Membership struct {
	User  string `gorm:"primaryKey"`
	Group string `gorm:"primaryKey;column:group_name;index"`
}

func purpose(user string) string { return "nt hash of " + user }

// Users lists everybody by name, with groups, in one pass: there may be a hundred thousand.
func (s *Store) Users(ctx context.Context) (us []User, err error) {
	rows, err := s.db.WithContext(ctx).Raw("SELECT u.name, u.full_name, u.off, u.mail, u.until, u.hours, u.sessions, u.tunnels, u.must_change, u.hashed, " +
		"u.password_at, u.at, COALESCE(m.group_name, '') FROM users u LEFT JOIN memberships m ON m.user = u.name ORDER BY u.name, m.group_name").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var u User
		var group string
		if err := rows.Scan(&u.Name, &u.FullName, &u.Off, &u.Mail, &u.Until, &u.Hours, &u.Sessions, &u.Tunnels, &u.MustChange, &u.Hashed,
			&u.PasswordAt, &u.At, &group); err != nil {
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

// May tells whether somebody may log in at a moment, as far as that hangs on them alone.
func (u *User) May(now time.Time) bool { return !u.Off && (u.Until.IsZero() || now.Before(u.Until)) }

// RollVersion counts changes of people themselves since the store was opened: each write is one.
func (s *Store) RollVersion() uint64 { return s.roll.Load() }

// peopleChanged counts a write of people.
func (s *Store) peopleChanged() {
	s.roll.Add(1)
	s.people.Add(1)
}

// PeopleVersion counts changes of people, their groups and their keys since the store was opened.
func (s *Store) PeopleVersion() uint64 { return s.people.Load() }

// User finds one by name, with groups.
func (s *Store) User(ctx context.Context, name string) (u User, err error) {
	err = translate(s.db.WithContext(ctx).Preload("Groups").First(&u, "name = ?", name).Error)
	u.Sealed = nil
	return u, err
}

// AddUser adds a person with a password.
func (s *Store) AddUser(ctx context.Context, u User, password string) error {
	return s.ApplyPeople(ctx, []NewUser{{u, NewPassword{Text: password, Challenge: true, Must: u.MustChange}}}, nil)
}

// NewUser is somebody who is to be added.
type NewUser struct {
	User
	Password NewPassword
}

// ApplyPeople adds and changes people, all or nothing. ErrExists and ErrNotFound are about one of them.
func (s *Store) ApplyPeople(ctx context.Context, added []NewUser, changed []User) error {
	now := time.Now().UTC()
	for i := range added {
		u := &added[i]
		var err error
		if u.Sealed, u.Hashed, err = s.sealPassword(u.Name, u.Password); err != nil {
			return err
		}
		u.MustChange = u.Password.Must
		u.At, u.PasswordAt, u.Until = now, now, u.Until.UTC()
		for j := range u.Groups {
			u.Groups[j].User = u.Name
		}
	}
	defer s.peopleChanged()
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		for i := range added {
			u := &added[i].User
			u.Folded = fold.Name(u.Name)
			if err := free(db, u.Folded); err != nil {
				return err
			}
			if err := translate(db.Create(u).Error); err != nil {
				return err
			}
		}
		for _, u := range changed {
			if err := change(db, u); err != nil {
				return err
			}
		}
		return nil
	})
}

func change(db *gorm.DB, u User) error {
	r := db.Model(&User{}).Where("name = ?", u.Name).Updates(map[string]any{
		"full_name": u.FullName, "off": u.Off, "mail": u.Mail, "until": u.Until.UTC(), "hours": u.Hours, "sessions": u.Sessions, "tunnels": u.Tunnels,
	})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	if r.Error != nil {
		return r.Error
	}
	if err := db.Delete(&Membership{}, "user = ?", u.Name).Error; err != nil {
		return err
	}
	for _, g := range u.Groups {
		if err := db.Create(&Membership{u.Name, g.Group}).Error; err != nil {
			return err
		}
	}
	return nil
}

// ChangeUser writes everything of a person but the password.
func (s *Store) ChangeUser(ctx context.Context, u User) error {
	return s.ApplyPeople(ctx, nil, []User{u})
}

// Stamp stands for what a person logs in with: it is another once their password changes, or their devices are to be forgotten. It is empty
// for somebody who may not log in.
func (s *Store) Stamp(ctx context.Context, name string) (string, error) {
	var u User
	if err := translate(s.db.WithContext(ctx).First(&u, "name = ?", name).Error); err != nil || !u.May(time.Now()) {
		return "", err
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %d %d", u.Name, u.PasswordAt.UnixNano(), u.Forgotten))
	return hex.EncodeToString(sum[:16]), nil
}

// ForgetDevices makes worthless what a person's devices have to come back by without logging in anew. Somebody who is not the service's own
// has nothing like it.
func (s *Store) ForgetDevices(ctx context.Context, name string) error {
	return s.db.WithContext(ctx).Model(&User{}).Where("name = ?", name).Update("forgotten", gorm.Expr("forgotten + 1")).Error
}

// RemoveUser forgets a person.
func (s *Store) RemoveUser(ctx context.Context, name string) error {
	defer s.peopleChanged()
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		r := db.Delete(&User{}, "name = ?", name)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		return forgetThings(db, name)
	})
}

// forgetThings forgets everything of a person who is none any more: whoever has the name next has nothing of it.
func forgetThings(db *gorm.DB, name string) error {
	for _, of := range []any{
		&Kit{}, &KitLink{}, &PersonShared{}, &Invitation{}, &PersonLink{}, &Factor{}, &RecoveryCode{},
		&CodedKey{},
	} {
		if err := db.Delete(of, "user = ?", name).Error; err != nil {
			return err
		}
	}
	// Keys of another authority's certificates are known by these. The others stay known, and are not valid any more.
	if err := db.Delete(&PersonKey{}, "user = ? AND authority <> '' AND revoked < ?", name, time.Unix(0, 0).UTC()).Error; err != nil {
		return err
	}
	return db.Model(&PersonKey{}).Where("user = ? AND revoked < ?", name, time.Unix(0, 0).UTC()).
		Update("revoked", time.Now().UTC()).Error
}

// HeldError is a name that somebody else has, however either is written.
type HeldError struct {
	Name   string // as they have it
	Source string // where they are kept; empty: here
}

// Error implements error.
func (e *HeldError) Error() string {
	if e.Source == "" {
		return fmt.Sprintf("the service's own user %s has that name", e.Name)
	}
	return fmt.Sprintf("%s of source %s has that name: give another, or forget that person once they are not kept there any more (yl people forget %s)",
		e.Name, e.Source, e.Name)
}

// free tells whether nobody has a name yet.
func free(db *gorm.DB, folded string) error {
	var own User
	if err := db.Select("name").Limit(1).Find(&own, "folded = ?", folded).Error; err != nil || own.Name != "" {
		if err == nil {
			err = ErrExists
		}
		return err
	}
	var other SourcePerson
	if err := db.Select("name", "source").Limit(1).Find(&other, "folded = ?", folded).Error; err != nil || other.Name == "" {
		return err
	}
	return &HeldError{other.Name, other.Source}
}
