package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Kinds of what a server is told of a session.
const (
	AccountStart   = "start"
	AccountInterim = "interim"
	AccountStop    = "stop"
)

// mostAccounts is how much waits to be told; beyond it the oldest interim state goes, then the oldest of all.
const mostAccounts = 100_000

// AccountedSession is a live session of which a server is told.
type AccountedSession struct {
	ID     string `gorm:"primaryKey"` // the session's
	Source string
	User   string
	Class  [][]byte  `gorm:"serializer:json"`
	Told   time.Time // when it was last noted how it goes on
	Seen   time.Time // when it was last seen alive
}

// Account is one thing that a server is to be told of a session, as it was at a moment.
type Account struct {
	ID        uint `gorm:"primaryKey"`
	Source    string
	Session   string `gorm:"index"`
	Kind      string
	User      string
	From      string
	Addresses string   // with spaces between
	Class     [][]byte `gorm:"serializer:json"`
	At        time.Time
	Lasted    time.Duration
	InBytes   uint64
	OutBytes  uint64
	InPackets uint64
	Packets   uint64 // to the person
	Cause     uint32 // of an end (RFC 2866 §5.10)
}

// AccountedSessions lists live sessions of which servers are told.
func (s *Store) AccountedSessions(ctx context.Context) (out []AccountedSession, err error) {
	err = s.events.WithContext(ctx).Order("id").Find(&out).Error
	return out, err
}

// AccountedSession finds one by the session's ID.
func (s *Store) AccountedSession(ctx context.Context, id string) (k AccountedSession, err error) {
	err = translate(s.events.WithContext(ctx).First(&k, "id = ?", id).Error)
	return k, err
}

// AddAccount notes what is to be told, with how the session stands: both or nothing. An end takes the session out. What was noted of how it
// goes on, and not told yet, gives way to what is newer.
func (s *Store) AddAccount(ctx context.Context, live AccountedSession, a Account) error {
	return s.events.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		if a.Kind != AccountStart {
			if err := db.Delete(&Account{}, "session = ? AND kind = ?", a.Session, AccountInterim).Error; err != nil {
				return err
			}
		}
		a.At = a.At.UTC()
		if err := db.Create(&a).Error; err != nil {
			return err
		}
		if a.Kind == AccountStop {
			return db.Delete(&AccountedSession{}, "id = ?", live.ID).Error
		}
		live.Told, live.Seen = live.Told.UTC(), live.Seen.UTC()
		return db.Save(&live).Error
	})
}

// SawAccounted notes that sessions are alive.
func (s *Store) SawAccounted(ctx context.Context, ids []string, now time.Time) error {
	return s.events.WithContext(ctx).Model(&AccountedSession{}).Where("id IN ?", ids).Update("seen", now.UTC()).Error
}

// Accounts lists the oldest that servers of a source are to be told.
func (s *Store) Accounts(ctx context.Context, source string, most int) (out []Account, err error) {
	err = s.events.WithContext(ctx).Where("source = ?", source).Order("id").Limit(most).Find(&out).Error
	return out, err
}

// AccountsWaiting is how many there are, by source.
func (s *Store) AccountsWaiting(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Source string
		N      int
	}
	err := s.events.WithContext(ctx).Model(&Account{}).Select("source, count(*) AS n").Group("source").Find(&rows).Error
	out := map[string]int{}
	for _, r := range rows {
		out[r.Source] = r.N
	}
	return out, err
}

// AccountTold forgets what was told.
func (s *Store) AccountTold(ctx context.Context, id uint) error {
	return s.events.WithContext(ctx).Delete(&Account{}, id).Error
}

// DropAccounts forgets what is of sources that there are no more, and the oldest beyond what is kept; it tells how many of these.
func (s *Store) DropAccounts(ctx context.Context, sources []string) (dropped int64, err error) {
	db := s.events.WithContext(ctx)
	if err := db.Where("source NOT IN ?", append([]string{""}, sources...)).Delete(&Account{}).Error; err != nil {
		return 0, err
	}
	if err := db.Where("source NOT IN ?", append([]string{""}, sources...)).Delete(&AccountedSession{}).Error; err != nil {
		return 0, err
	}
	for _, where := range []string{"kind = 'interim'", "1 = 1"} {
		var n int64
		if err := db.Model(&Account{}).Count(&n).Error; err != nil || n <= mostAccounts {
			return dropped, err
		}
		r := db.Exec("DELETE FROM accounts WHERE id IN (SELECT id FROM accounts WHERE "+where+" ORDER BY id LIMIT ?)", n-mostAccounts)
		if r.Error != nil {
			return dropped, r.Error
		}
		dropped += r.RowsAffected
	}
	return dropped, nil
}
