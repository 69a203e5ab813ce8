package store

import (
	"context"
	"time"
)

// Approval is that somebody looked at a text, by its digest, and found it fit to run.
type Approval struct {
	Digest string `gorm:"primaryKey"`
	By     string `gorm:"primaryKey"`
	At     time.Time
}

// approvalLasts is for how long one counts.
const approvalLasts = 30 * 24 * time.Hour

// AddApproval keeps one, and forgets those that are old.
func (s *Store) AddApproval(ctx context.Context, a Approval) error {
	a.At = a.At.UTC()
	db := s.db.WithContext(ctx)
	if err := db.Delete(&Approval{}, "at < ?", a.At.Add(-approvalLasts)).Error; err != nil {
		return err
	}
	return db.Save(&a).Error
}

// Approvals lists those of a text, the oldest first.
func (s *Store) Approvals(ctx context.Context, digest string) (as []Approval, err error) {
	err = s.db.WithContext(ctx).Order("at").Find(&as, "digest = ? AND at > ?", digest, time.Now().UTC().Add(-approvalLasts)).Error
	return as, err
}

// Hand is that one administrator had another in hand: made them, or set their password, their second factor or their role.
type Hand struct {
	ID            uint   `gorm:"primaryKey"`
	Administrator string `gorm:"index"`
	By            string
	At            time.Time
}

// AddHand keeps one, and forgets those that are old.
func (s *Store) AddHand(ctx context.Context, h Hand) error {
	h.At = h.At.UTC()
	db := s.db.WithContext(ctx)
	if err := db.Delete(&Hand{}, "at < ?", h.At.Add(-2*approvalLasts)).Error; err != nil {
		return err
	}
	return db.Create(&h).Error
}

// Hands lists them in a span of time, its end included.
func (s *Store) Hands(ctx context.Context, from, to time.Time) (hs []Hand, err error) {
	err = s.db.WithContext(ctx).Order("at").Find(&hs, "at > ? AND at <= ?", from.UTC(), to.UTC()).Error
	return hs, err
}
