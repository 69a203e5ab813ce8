package source

import (
	"sync"
	"time"
)

// State is what a source said last.
type State struct {
	At    time.Time // zero: it was not asked yet
	Error string    // that it could not be asked at all; empty: it could
	Since time.Time // of the error
}

// Standing keeps it. The zero value is that it was not asked yet.
type Standing struct {
	mu    sync.Mutex
	state State
}

// State is what it said last.
func (s *Standing) State() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.state
}

// Settled notes what came of asking it: that somebody is not there, or has a wrong password, is an answer.
func (s *Standing) Settled(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state.At = time.Now()
	if kind := KindOf(err); err == nil || kind != Away && kind != Account && kind != Mistaken {
		s.state.Error = ""
		return
	}
	if s.state.Error == "" {
		s.state.Since = s.state.At
	}
	s.state.Error = err.Error()
}

const deadFor = 30 * time.Second

// Dead remembers servers that did not answer: they are asked last for a while. The zero value is that all did.
type Dead struct {
	mu    sync.Mutex
	until map[string]time.Time
}

// Order gives servers in the order in which they are asked: those that answered first.
func (d *Dead) Order(servers []string, now time.Time) []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	var alive, dead []string
	for _, s := range servers {
		if now.Before(d.until[s]) {
			dead = append(dead, s)
		} else {
			alive = append(alive, s)
		}
	}
	return append(alive, dead...)
}

// Note notes whether one answered.
func (d *Dead) Note(server string, answered bool, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if answered {
		delete(d.until, server)
		return
	}
	if d.until == nil {
		d.until = map[string]time.Time{}
	}
	d.until[server] = now.Add(deadFor)
}
