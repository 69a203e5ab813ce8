package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// SourcePerson is somebody of a source elsewhere, as they were when they were seen last.
type SourcePerson struct {
	Name     string `gorm:"primaryKey"`
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

// SaveSourcePerson keeps who somebody is.
func (s *Store) SaveSourcePerson(ctx context.Context, p SourcePerson) error {
	p.At, p.Checked = p.At.UTC(), p.Checked.UTC()
	var was SourcePerson
	if err := s.db.WithContext(ctx).Limit(1).Find(&was, "name = ?", p.Name).Error; err != nil {
		return err
	}
	if was.Groups != p.Groups || was.Gone != p.Gone || was.Source != p.Source {
		defer s.people.Add(1)
	}
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error
}

// SourcePerson finds one by name.
func (s *Store) SourcePerson(ctx context.Context, name string) (p SourcePerson, err error) {
	err = translate(s.db.WithContext(ctx).First(&p, "name = ?", name).Error)
	return p, err
}

// Spelled finds how names are written that are equal but for capital letters: a user's, and somebody's of a source; empty: nobody's.
func (s *Store) Spelled(ctx context.Context, name string) (user, elsewhere string, err error) {
	for _, of := range []struct {
		table string
		to    *string
	}{{"users", &user}, {"source_people", &elsewhere}} {
		q := s.db.WithContext(ctx).Table(of.table).Select("name").Where("name = ? COLLATE NOCASE", name).Order("name").Limit(1)
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
