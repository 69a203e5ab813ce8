package session

import (
	"net/netip"
	"slices"
	"sync"

	"yellowlantern/internal/core/reason"
)

// Table is every session of a gateway. It is safe for concurrent use; the zero value is ready.
type Table struct {
	mu        sync.RWMutex
	byID      map[uint64]*Session
	byAddress map[netip.Addr]*Session // those that are up
	byPerson  map[person][]*Session
	byPassage map[string]int
	up        int
}

type person struct{ passage, user string }

// Add takes a session that was admitted. Its ID must be its own: ok is false where another has it.
func (t *Table) Add(s *Session) (ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.byID == nil {
		t.byID, t.byAddress = map[uint64]*Session{}, map[netip.Addr]*Session{}
		t.byPerson, t.byPassage = map[person][]*Session{}, map[string]int{}
	}
	if t.byID[s.ID] != nil || s.ID == 0 {
		return false
	}
	k := person{s.Passage, s.User}
	t.byID[s.ID] = s
	t.byPerson[k] = append(t.byPerson[k], s)
	t.byPassage[s.Passage]++
	return true
}

// Up lets packets of a session pass by a path. It does nothing, and says so, where the session is over already.
func (t *Table) Up(s *Session, path Path) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state != Admitted || t.byID[s.ID] != s {
		return false
	}
	s.path.Store(&path)
	s.state, s.Lost = Up, map[string]uint64{}
	for _, a := range s.Addresses {
		t.byAddress[a] = s
	}
	t.up++
	return true
}

// End takes a session out. Once it has returned no packet of the session passes, and none is counted, however late it comes: its addresses
// may be somebody else's by then. first is false where the session was over already; was is how far it had come.
func (t *Table) End(s *Session, why reason.Reason) (was State, first bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.state == Over {
		return Over, false
	}
	was, s.state, s.why = s.state, Over, why
	delete(t.byID, s.ID)
	for _, a := range s.Addresses {
		if t.byAddress[a] == s {
			delete(t.byAddress, a)
		}
	}
	k := person{s.Passage, s.User}
	t.byPerson[k] = slices.DeleteFunc(t.byPerson[k], func(o *Session) bool { return o == s })
	if len(t.byPerson[k]) == 0 {
		delete(t.byPerson, k)
	}
	if t.byPassage[s.Passage]--; t.byPassage[s.Passage] == 0 {
		delete(t.byPassage, s.Passage)
	}
	if was == Up {
		t.up--
	}
	return was, true
}

// Of finds a session that is not over.
func (t *Table) Of(id uint64) *Session {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.byID[id]
}

// At finds who has an address.
func (t *Table) At(a netip.Addr) *Session {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.byAddress[a]
}

// All is every session that is up.
func (t *Table) All() []*Session {
	t.mu.RLock()
	defer t.mu.RUnlock()
	out := make([]*Session, 0, len(t.byID))
	for _, s := range t.byID {
		if s.path.Load() != nil {
			out = append(out, s)
		}
	}
	return out
}

// Len is how many sessions are up.
func (t *Table) Len() int {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.up
}

// Theirs is somebody's sessions by a passage, the oldest first; those who are being told count.
func (t *Table) Theirs(passage, user string) []*Session {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return slices.Clone(t.byPerson[person{passage, user}])
}

// By is how many sessions there are by a passage.
func (t *Table) By(passage string) int {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.byPassage[passage]
}
