package store

import (
	"context"
	"sync"

	"gorm.io/gorm"
)

// mostTogether is how many lines are written by one transaction.
const mostTogether = 256

// waiting is a line that waits to be written.
type waiting struct {
	entry JournalEntry
	done  chan error
}

// lines are those that wait.
type lines struct {
	mu  sync.Mutex
	all []*waiting
}

func (l *lines) add(w *waiting) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, w)
}

// take gives those that wait, up to mostTogether of them.
func (l *lines) take() []*waiting {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := min(len(l.all), mostTogether)
	out := l.all[:n:n]
	l.all = l.all[n:]
	return out
}

// AddJournal writes a line. Lines that wait, for a disk is slow or many log in at once, are written together by whoever comes to it first.
func (s *Store) AddJournal(ctx context.Context, e JournalEntry) error {
	w := &waiting{e, make(chan error, 1)}
	s.lines.add(w)
	s.chain.mu.Lock()
	defer s.chain.mu.Unlock()
	for {
		select {
		case err := <-w.done:
			return err
		default:
			s.writeLines(context.WithoutCancel(ctx), s.lines.take())
		}
	}
}

// writeLines writes all of them or none, and tells who waits. What keeps one from being written, a disk that is full or somebody who holds
// the database, keeps all of them: none is tried by itself, for others wait behind them. The chain is held.
func (s *Store) writeLines(ctx context.Context, all []*waiting) {
	err := s.events.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		entries := make([]JournalEntry, len(all))
		for i, w := range all {
			entries[i] = w.entry
			if err := s.link(db, &entries[i]); err != nil {
				return err
			}
		}
		return db.Create(&entries).Error
	})
	if err != nil { // read anew what is there: a transaction may fail after it was written
		s.chain.known = false
	}
	for _, w := range all {
		w.done <- err
	}
}

// AddEvents writes what a gateway told of: lines, sessions that ended, and that it was taken: all or nothing, by one transaction.
func (s *Store) AddEvents(ctx context.Context, lines []JournalEntry, past []PastSession, t Taken) error {
	s.chain.mu.Lock()
	defer s.chain.mu.Unlock()
	err := s.events.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		for i := range lines {
			if err := s.link(db, &lines[i]); err != nil {
				return err
			}
		}
		if len(lines) > 0 {
			if err := db.Create(&lines).Error; err != nil {
				return err
			}
		}
		if len(past) > 0 {
			if err := db.Create(&past).Error; err != nil {
				return err
			}
		}
		return t.note(db)
	})
	if err != nil { // read again what is there: a transaction may fail after it was written
		s.chain.known = false
	}
	return err
}

// note notes that an event was taken.
func (t Taken) note(db *gorm.DB) error {
	if t.Of == "" {
		return nil
	}
	t.ID = 1
	return db.Save(&t).Error
}
