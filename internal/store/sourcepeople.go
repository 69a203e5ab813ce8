package store

import (
	"context"
	"errors"
	"time"

	"yellowlantern/internal/core/fold"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// SourcePerson is somebody of a source elsewhere, as they were when they were seen last.
type SourcePerson struct {
	Name     string `gorm:"primaryKey"`
	Folded   string `gorm:"index"` // the name as fold.Name has it: two people never have the same
	Source   string `gorm:"index"` // by its name in the plan
	FullName string
	Mail     string
	Groups   string    // the plan's, separated by spaces
	At       time.Time // of their newest login
	Checked  time.Time // when the source was asked last
	Gone     bool      // it said then that they may not come in
	Limits   string    // that the source gave them at that login, as JSON
	Class    [][]byte  `gorm:"serializer:json"` // what it wants to be told again of their session
	Hash     string    `json:"-"`               // of the password of the newest login, where it is to be remembered
}

// SaveSourcePerson keeps who somebody is. The name is one source's: a *HeldError says that another one, or the service itself, has somebody
// of that name, however it is written.
func (s *Store) SaveSourcePerson(ctx context.Context, p SourcePerson) error {
	p.At, p.Checked, p.Folded = p.At.UTC(), p.Checked.UTC(), fold.Name(p.Name)
	changed := false
	err := s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		err := free(db, p.Folded)
		var held *HeldError
		switch {
		case errors.Is(err, ErrExists):
			return &HeldError{Name: p.Name}
		case errors.As(err, &held) && held.Source != p.Source:
			return held
		case err != nil && held == nil:
			return err
		case held != nil && held.Name != p.Name: // who comes once as dora and once as Dora is one
			p.Name = held.Name
		}
		var was SourcePerson
		if err := db.Limit(1).Find(&was, "name = ?", p.Name).Error; err != nil {
			return err
		}
		changed = was.Groups != p.Groups || was.Gone != p.Gone || was.Source != p.Source
		return db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error
	})
	if changed && err == nil {
		s.people.Add(1)
	}
	return err
}

// ForgetSourcePerson forgets somebody of a source with everything that they have here; ErrNotFound where there is nobody of that name.
func (s *Store) ForgetSourcePerson(ctx context.Context, name string) error {
	defer s.peopleChanged()
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		r := db.Delete(&SourcePerson{}, "name = ?", name)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		return forgetThings(db, name)
	})
}

// SourcePerson finds one by name.
func (s *Store) SourcePerson(ctx context.Context, name string) (p SourcePerson, err error) {
	err = translate(s.db.WithContext(ctx).First(&p, "name = ?", name).Error)
	return p, err
}

// Spelled finds how names are written that are the same as fold.Name has it: a user's, and somebody's of a source; empty: nobody's.
func (s *Store) Spelled(ctx context.Context, name string) (user, elsewhere string, err error) {
	for _, of := range []struct {
		table string
		to    *string
	}{{"users", &user}, {"source_people", &elsewhere}} {
		q := s.db.WithContext(ctx).Table(of.table).Select("name").Where("folded = ?", fold.Name(name)).Order("name").Limit(1)
		if err := q.Scan(of.to).Error; err != nil {
			return "", "", err
		}
	}
	return user, elsewhere, nil
}

// SourcePeople lists those who logged in after a moment, by name.
func (s *Store) SourcePeople(ctx context.Context, after time.Time) (ps []SourcePerson, err error) {
	err = s.db.WithContext(ctx).Where("at > ?", after.UTC()).Order("name").Find(&ps).Error
	return ps, err
}

// foldNames has names as they are compared. Of people of sources who turn out to be one, who came last stays.
func foldNames(db *gorm.DB) error {
	if err := db.AutoMigrate(&User{}, &SourcePerson{}); err != nil {
		return err
	}
	for _, table := range []string{"users", "source_people"} {
		var names []string
		order := "name"
		if table == "source_people" {
			order = "at DESC"
		}
		if err := db.Table(table).Order(order).Pluck("name", &names).Error; err != nil {
			return err
		}
		seen := map[string]bool{}
		for _, name := range names {
			folded := fold.Name(name)
			if seen[folded] && table == "source_people" {
				if err := db.Delete(&SourcePerson{}, "name = ?", name).Error; err != nil {
					return err
				}
				if err := forgetThings(db, name); err != nil {
					return err
				}
				continue
			}
			seen[folded] = true
			if err := db.Table(table).Where("name = ?", name).Update("folded", folded).Error; err != nil {
				return err
			}
		}
	}
	return nil
}
