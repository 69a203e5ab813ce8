package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Request is a call that another administrator is to approve before it is done.
type Request struct {
	ID     uint `gorm:"primaryKey"`
	Call   string
	Method string
	Path   string
	Words  string // what it does
	By     string
	At     time.Time
	Seen   string // what it is about, as it was when it was asked for
	Sealed []byte `json:"-"` // its body: a password may be in it
}

// requestLasts is for how long one waits.
const requestLasts = 7 * 24 * time.Hour

func requestPurpose(r Request) string {
	return fmt.Sprintf("request %s %s by %s", r.Method, r.Path, r.By)
}

// AddRequest keeps one with its body, and forgets those that waited too long. It gives its ID.
func (s *Store) AddRequest(ctx context.Context, r Request, body []byte) (id uint, err error) {
	r.At = r.At.UTC()
	if r.Sealed, err = s.sealed(body, requestPurpose(r)); err != nil {
		return 0, err
	}
	db := s.db.WithContext(ctx)
	if err := db.Delete(&Request{}, "at < ?", r.At.Add(-requestLasts)).Error; err != nil {
		return 0, err
	}
	err = db.Create(&r).Error
	return r.ID, err
}

// Requests lists those that wait, the oldest first.
func (s *Store) Requests(ctx context.Context) (all []Request, err error) {
	err = s.db.WithContext(ctx).Omit("sealed").Order("id").Find(&all, "at > ?", time.Now().UTC().Add(-requestLasts)).Error
	return all, err
}

// ReturnRequest keeps one again that was taken away and could not be done.
func (s *Store) ReturnRequest(ctx context.Context, r Request) error {
	return s.db.WithContext(ctx).Create(&r).Error
}

// Request gives one that waits, with its body.
func (s *Store) Request(ctx context.Context, id uint) (r Request, body []byte, err error) {
	err = translate(s.db.WithContext(ctx).First(&r, "id = ? AND at > ?", id, time.Now().UTC().Add(-requestLasts)).Error)
	if err == nil {
		body, err = s.unsealed(r.Sealed, requestPurpose(r))
	}
	return r, body, err
}

// EndRequest takes one away; it is ErrNotFound where somebody was faster.
func (s *Store) EndRequest(ctx context.Context, id uint) error {
	r := s.db.WithContext(ctx).Delete(&Request{}, "id = ?", id)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

func requests(db *gorm.DB) error { return db.AutoMigrate(&Request{}) }
