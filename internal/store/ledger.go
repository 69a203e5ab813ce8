package store

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"

	"yellowlantern/internal/core/ledger"
)

// LedgerState is where the chain of the journal begins, which key signs its heads, and how far it was sent on.
type LedgerState struct {
	ID     uint   `gorm:"primaryKey"`
	Gone   uint64 // the last line that was let go, or that is from before there was a chain
	Hash   []byte // of that line; nil: there was none yet
	Sealed []byte `json:"-"` // the private key
	Sent   uint64 // the last line that was sent on
	Signs  bool   // where the chain begins is signed, since a version that does
}

// SignedHead is one that was signed, and told to whoever asked.
type SignedHead struct {
	Line      uint64 `gorm:"primaryKey;autoIncrement:false"`
	At        time.Time
	Hash      []byte
	Key       string
	Signature string
}

const ledgerPurpose = "key of the journal"

// chain is the newest line, as far as it is known. It is held while a line is written.
type chain struct {
	mu    sync.Mutex
	known bool
	last  ledger.Start
}

// line is what is chained of an entry.
func (e *JournalEntry) line() ledger.Line {
	l := ledger.Line{
		ID: uint64(e.ID), At: e.At.UTC().Truncate(time.Millisecond), Kind: e.Kind, Gateway: e.Gateway, User: e.User, From: e.From, Code: e.Reason, Words: e.Words,
	}
	if e.With != "" {
		l.With = json.RawMessage(e.With)
	}
	if len(e.Hash) == len(l.Hash) {
		l.Hash = ledger.Hash(e.Hash)
	}
	return l
}

// link chains an entry to the newest one, which it is from then on. The chain is held.
func (s *Store) link(db *gorm.DB, e *JournalEntry) error {
	if !s.chain.known {
		last, err := s.newest(db)
		if err != nil {
			return err
		}
		s.chain.last, s.chain.known = last, true
	}
	e.ID, e.At = uint(s.chain.last.ID+1), e.At.UTC().Truncate(time.Millisecond)
	hash := e.line().After(s.chain.last.Hash)
	e.Hash = hash[:]
	s.chain.last = ledger.Start{ID: uint64(e.ID), Hash: hash}
	return nil
}

// newest is the newest line that is kept, or the last that was let go.
func (s *Store) newest(db *gorm.DB) (ledger.Start, error) {
	var e JournalEntry
	switch err := translate(db.Order("id DESC").First(&e).Error); {
	case err == nil && len(e.Hash) > 0:
		return ledger.Start{ID: uint64(e.ID), Hash: ledger.Hash(e.Hash)}, nil
	case err != nil && !errors.Is(err, ErrNotFound):
		return ledger.Start{}, err
	}
	return s.start(db)
}

func (s *Store) state(db *gorm.DB) (st LedgerState, err error) {
	err = db.First(&st).Error
	return st, err
}

func (s *Store) start(db *gorm.DB) (ledger.Start, error) {
	st, err := s.state(db)
	out := ledger.Start{ID: st.Gone}
	if len(st.Hash) == len(out.Hash) {
		out.Hash = ledger.Hash(st.Hash)
	}
	return out, err
}

// signStart signs, once, where the chain of a database begins whose lines were removed by a version that signed nothing.
func (s *Store) signStart() error {
	st, err := s.state(s.db)
	if err != nil || st.Signs { // nothing is written, so that a full disk does not keep the service from starting
		return err
	}
	return s.db.Transaction(func(db *gorm.DB) error {
		if len(st.Hash) == len(ledger.Hash{}) {
			if _, err := s.signHead(db, ledger.Start{ID: st.Gone, Hash: ledger.Hash(st.Hash)}, time.Now()); err != nil {
				return err
			}
		}
		return db.Model(&LedgerState{}).Where("id = 1").Update("signs", true).Error
	})
}

// LedgerStart is where the chain begins.
func (s *Store) LedgerStart(ctx context.Context) (ledger.Start, error) {
	db := s.db.WithContext(ctx)
	out, err := s.start(db)
	if err != nil {
		return out, err
	}
	var kept SignedHead
	switch err := translate(db.First(&kept, "line = ?", out.ID).Error); {
	case errors.Is(err, ErrNotFound) || err == nil && len(kept.Hash) != len(out.Hash):
		return out, nil
	case err != nil:
		return out, err
	}
	out.Signed = &ledger.Head{ID: kept.Line, Hash: ledger.Hash(kept.Hash), At: kept.At.UTC(), Key: kept.Key, Signature: kept.Signature}
	return out, nil
}

// LedgerLines gives lines after one, in order.
func (s *Store) LedgerLines(ctx context.Context, after uint64, most int) ([]ledger.Line, error) {
	st, err := s.state(s.db.WithContext(ctx))
	if err != nil {
		return nil, err
	}
	var es []JournalEntry
	if err := s.db.WithContext(ctx).Where("id > ?", max(after, st.Gone)).Order("id").Limit(most).Find(&es).Error; err != nil {
		return nil, err
	}
	out := make([]ledger.Line, 0, len(es))
	for i := range es {
		out = append(out, es[i].line())
	}
	return out, nil
}

// LedgerHead signs the newest line, which is on the disk then, with all before it.
func (s *Store) LedgerHead(ctx context.Context, now time.Time) (h ledger.Head, err error) {
	s.chain.mu.Lock()
	defer s.chain.mu.Unlock()
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		last, err := s.newest(db)
		if err == nil {
			h, err = s.signHead(db, last, now)
		}
		return err
	})
	return h, err
}

// signHead signs a line and keeps that, by a connection that waits for the disk.
func (s *Store) signHead(db *gorm.DB, line ledger.Start, now time.Time) (h ledger.Head, err error) {
	st, err := s.state(db)
	if err != nil {
		return h, err
	}
	if st.Sealed == nil {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err == nil {
			st.Sealed, err = s.sealed(key.Seed(), ledgerPurpose)
		}
		if err == nil {
			err = db.Model(&st).Update("sealed", st.Sealed).Error
		}
		if err != nil {
			return h, err
		}
	}
	seed, err := s.unsealed(st.Sealed, ledgerPurpose)
	if err != nil {
		return h, err
	}
	h = ledger.Sign(ed25519.NewKeyFromSeed(seed), line.ID, line.Hash, now)
	return h, db.Save(&SignedHead{h.ID, h.At, h.Hash[:], h.Key, h.Signature}).Error
}

// ShortenJournal forgets lines from before a time, from the first on, and tells how many: the chain goes on where it begins then.
func (s *Store) ShortenJournal(ctx context.Context, before time.Time) (n int64, err error) {
	s.chain.mu.Lock()
	defer s.chain.mu.Unlock()
	s.chain.known = false
	err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		var stays, e JournalEntry
		q := db.Model(&JournalEntry{})
		switch err := translate(db.Where("at >= ?", before.UTC()).Order("id").First(&stays).Error); {
		case err == nil:
			q = q.Where("id < ?", stays.ID)
		case !errors.Is(err, ErrNotFound):
			return err
		}
		if err := translate(q.Order("id DESC").First(&e).Error); errors.Is(err, ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		if err := db.Model(&LedgerState{}).Where("id = 1 AND gone < ?", e.ID).Updates(map[string]any{
			"gone": e.ID,
			"hash": e.Hash,
		}).Error; err != nil {
			return err
		}
		if from, err := s.start(db); err != nil {
			return err
		} else if _, err := s.signHead(db, from, time.Now()); err != nil {
			return err
		}
		r := db.Delete(&JournalEntry{}, "id <= ?", e.ID)
		n = r.RowsAffected
		return r.Error
	})
	return n, err
}

// SentOn is the last line that was sent on.
func (s *Store) SentOn(ctx context.Context) (uint64, error) {
	st, err := s.state(s.db.WithContext(ctx))
	return st.Sent, err
}

// SetSentOn notes how far lines were sent on.
func (s *Store) SetSentOn(ctx context.Context, id uint64) error {
	return s.events.WithContext(ctx).Model(&LedgerState{}).Where("id = 1").Update("sent", id).Error
}

// beginLedger begins a chain after the lines that are there, which were written without one.
func beginLedger(db *gorm.DB) error {
	if err := db.AutoMigrate(&JournalEntry{}, &LedgerState{}, &SignedHead{}); err != nil {
		return err
	}
	var last uint64
	if err := db.Raw("SELECT COALESCE(max(id), 0) FROM journal_entries").Scan(&last).Error; err != nil {
		return fmt.Errorf("the chain of the journal: %w", err)
	}
	return db.Create(&LedgerState{ID: 1, Gone: last, Sent: last}).Error
}
