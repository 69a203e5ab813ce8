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
	taken Taken
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

// AddJournal writes a line, and with it that the event of which it tells was taken, if it is one of a gateway's: both or nothing. Lines
// that wait, because a disk is slow or many log in at once, are written together by whoever comes to it first.
func (s *Store) AddJournal(ctx context.Context, e JournalEntry, t Taken) error {
	w := &waiting{e, t, make(chan error, 1)}
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
		var taken Taken
		for i, w := range all {
			if entries[i] = w.entry; w.taken.Of != "" {
				taken = w.taken
			}
			if err := s.link(db, &entries[i]); err != nil {
				return err
			}
		}
		if err := db.Create(&entries).Error; err != nil {
			return err
		}
		return taken.note(db)
	})
	if err != nil { // read anew what is there: a transaction may fail after it was written
		s.chain.known = false
	}
	for _, w := range all {
		w.done <- err
	}
}

// note notes that an event was taken.
func (t Taken) note(db *gorm.DB) error {
	if t.Of == "" {
		return nil
	}
	t.ID = 1
	return db.Save(&t).Error
}
