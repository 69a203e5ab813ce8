package agent

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/private"
)

// Kept is how many events wait to be taken, and KeptOctets how much of them on the disk; newer ones are left out, and counted.
const (
	Kept       = 1 << 16
	KeptOctets = 32 << 20
)

// Mark is a place among numbered things: what is up to it was taken.
type Mark struct {
	Of       string `json:"of,omitempty"` // who numbers them: another one begins anew
	Sequence uint64 `json:"sequence"`
}

// Log keeps events until they are acknowledged: in memory, and in a file if it has one, from which whoever opens it next goes on. A process
// that is killed loses none of them; a machine that loses its power may lose the newest.
type Log struct {
	name string

	mu     sync.Mutex
	events []Event
	last   uint64
	left   uint64
	more   chan struct{} // closed when something comes; nil: nobody waits

	path string
	file *os.File // nil: none
	size int64
}

func newName() string { return rand.Text()[:12] }

// NewLog keeps events in memory alone.
func NewLog() *Log { return &Log{name: newName()} }

// head is a log file's first line.
type head struct {
	Log  string `json:"log"`
	Last uint64 `json:"last"` // number of the event before those that follow
	Left uint64 `json:"left"` // events left out so far
}

// OpenLog goes on with the events in a file, or begins one.
func OpenLog(path string) (*Log, error) {
	l := &Log{name: newName(), path: path}
	if err := private.Check(path); err != nil {
		return nil, err
	}
	if err := l.read(); err != nil {
		return nil, fmt.Errorf("events that wait in %s: %w", path, err)
	}
	return l, l.rewrite()
}

// read takes what is in the file, as far as it can be read: its last line may have been cut short.
func (l *Log) read() error {
	f, err := os.Open(l.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	r := bufio.NewReader(f)
	var h head
	if line, err := r.ReadBytes('\n'); err != nil || json.Unmarshal(line, &h) != nil || h.Log == "" {
		return nil
	}
	l.name, l.last, l.left = h.Log, h.Last, h.Left
	for {
		line, err := r.ReadBytes('\n')
		var e Event
		if err == io.EOF || json.Unmarshal(line, &e) != nil {
			return nil
		}
		if err != nil {
			return err
		}
		l.events, l.last = append(l.events, e), e.Sequence
	}
}

// rewrite writes the file anew, of what waits still.
func (l *Log) rewrite() error {
	if l.path == "" {
		return nil
	}
	before := l.last
	if len(l.events) > 0 {
		before = l.events[0].Sequence - 1
	}
	b, err := json.Marshal(head{l.name, before, l.left})
	if err != nil {
		return err
	}
	b = append(b, '\n')
	for _, e := range l.events {
		line, err := json.Marshal(e)
		if err != nil {
			return err
		}
		b = append(append(b, line...), '\n')
	}
	if err := private.Write(l.path, b); err != nil {
		return err
	}
	if l.file != nil {
		_ = l.file.Close()
	}
	l.size = int64(len(b))
	l.file, err = private.Append(l.path)
	return err
}

// Close closes the file.
func (l *Log) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file != nil {
		_ = l.file.Close()
		l.file = nil
	}
}

// Line adds a line for the journal.
func (l *Log) Line(e gateway.Event) { l.add(Event{Line: &e}) }

// Over adds the end of a session.
func (l *Log) Over(s gateway.Session, why reason.Reason) {
	l.add(Event{Over: &Over{s, why, time.Now()}})
}

func (l *Log) add(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.Sequence = l.last + 1
	if len(l.events) >= Kept || !l.store(e) {
		l.left++
		return
	}
	l.last++
	l.events = append(l.events, e)
	if l.more != nil {
		close(l.more)
		l.more = nil
	}
}

// store puts an event on the disk; false where there is no room left for it. What the disk itself does not take is kept in memory.
func (l *Log) store(e Event) bool {
	if l.file == nil {
		return true
	}
	b, err := json.Marshal(e)
	if err != nil {
		return false
	}
	if l.size+int64(len(b)) > KeptOctets {
		return false
	}
	n, err := l.file.Write(append(b, '\n'))
	l.size += int64(n)
	if err != nil { // half a line would hide those after it
		_ = l.file.Truncate(l.size - int64(n))
		l.size -= int64(n)
	}
	return true
}

// after forgets what is up to a mark, and gives the rest; nothing if the context ends before there is any.
func (l *Log) after(ctx context.Context, m Mark) Events {
	out := Events{Of: l.name}
	for {
		l.mu.Lock()
		if m.Of == l.name {
			l.acknowledge(m.Sequence)
		}
		if len(l.events) > 0 {
			out.Events = append([]Event{}, l.events...)
			l.mu.Unlock()
			return out
		}
		if l.more == nil {
			l.more = make(chan struct{})
		}
		more := l.more
		l.mu.Unlock()
		select {
		case <-more:
		case <-ctx.Done():
			return out
		}
	}
}

// tidyFrom is the size from which on a file is written anew once much of it is acknowledged.
const tidyFrom = 64 << 10

func (l *Log) acknowledge(n uint64) {
	done := 0
	for done < len(l.events) && l.events[done].Sequence <= n {
		done++
	}
	l.events = l.events[done:]
	if done > 0 && l.size > tidyFrom && len(l.events) == 0 {
		_ = l.rewrite() // what is acknowledged comes again else, and is known by its number
	}
}

// counted gives the number of the newest event, how many wait to be acknowledged, and how many were left out, for there were too many.
func (l *Log) counted() (last uint64, waiting int, left uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last, len(l.events), l.left
}
