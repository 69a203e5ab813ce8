package store

import (
	"context"
	"net/netip"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"yellowlantern/internal/core/crowd"
)

// Guess is what is known of a name from a source that had wrong guesses, or right ones.
type Guess struct {
	Of     string `gorm:"primaryKey"` // what was guessed
	Name   string `gorm:"primaryKey"`
	Source string `gorm:"primaryKey"`
	Wrong  int
	Last   time.Time
	Until  time.Time
	Known  time.Time
}

// guessesFor is for how long anything of a pair is kept.
const guessesFor = 30 * 24 * time.Hour

// KeepGuesses writes down what became of guesses; what says nothing any more is forgotten. A machine that loses its power may lose the
// newest.
func (s *Store) KeepGuesses(ctx context.Context, of string, all []crowd.Kept) error {
	if len(all) == 0 {
		return nil
	}
	return s.events.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		for _, k := range all {
			g := Guess{of, k.Name, k.Source.String(), k.Wrong, k.Last.UTC(), k.Until.UTC(), k.Known.UTC()}
			r := db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&g)
			if k.Wrong == 0 && k.Known.IsZero() {
				r = db.Delete(&g)
			}
			if r.Error != nil {
				return r.Error
			}
		}
		return db.Delete(&Guess{}, "last < ? AND known < ?", time.Now().UTC().Add(-guessesFor), time.Now().UTC().Add(-guessesFor)).Error
	})
}

// KeptGuesses are those of one kind that were written down.
func (s *Store) KeptGuesses(ctx context.Context, of string) (out []crowd.Kept, err error) {
	var all []Guess
	if err = s.db.WithContext(ctx).Find(&all, "of = ?", of).Error; err != nil {
		return nil, err
	}
	for _, g := range all {
		source, err := netip.ParsePrefix(g.Source)
		if err != nil {
			continue // nobody wrote that here
		}
		out = append(out, crowd.Kept{Name: g.Name, Source: source, Wrong: g.Wrong, Last: g.Last, Until: g.Until, Known: g.Known})
	}
	return out, nil
}
