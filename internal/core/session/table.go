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
	byPrefix  map[netip.Prefix]*Session
	lengths   [129]int // how many prefixes there are of each length
	byPerson  map[string][]*Session
	byPassage map[string]int
	up        int
}

// Add takes a session that was admitted. Its ID must be its own: ok is false where another has it.
func (t *Table) Add(s *Session) (ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.byID == nil {
		t.byID, t.byAddress, t.byPrefix = map[uint64]*Session{}, map[netip.Addr]*Session{}, map[netip.Prefix]*Session{}
		t.byPerson, t.byPassage = map[string][]*Session{}, map[string]int{}
	}
	if t.byID[s.ID] != nil || s.ID == 0 {
		return false
	}
	t.byID[s.ID] = s
	t.byPerson[s.User] = append(t.byPerson[s.User], s)
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
	for _, p := range s.Prefixes {
		if t.byPrefix[p] == nil {
			t.lengths[p.Bits()]++
		}
		t.byPrefix[p] = s
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
	for _, p := range s.Prefixes {
		if t.byPrefix[p] == s {
			t.lengths[p.Bits()]--
			delete(t.byPrefix, p)
		}
	}
	t.byPerson[s.User] = slices.DeleteFunc(t.byPerson[s.User], func(o *Session) bool { return o == s })
	if len(t.byPerson[s.User]) == 0 {
		delete(t.byPerson, s.User)
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
	if s := t.byAddress[a]; s != nil || len(t.byPrefix) == 0 || a.Is4() {
		return s
	}
	for bits, n := range t.lengths {
		if n > 0 {
			if p, err := a.Prefix(bits); err == nil && t.byPrefix[p] != nil {
				return t.byPrefix[p]
			}
		}
	}
	return nil
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
	return slices.DeleteFunc(t.Whose(user), func(s *Session) bool { return s.Passage != passage })
}

// Whose is somebody's sessions by any passage, the oldest first; those who are being told count.
func (t *Table) Whose(user string) []*Session {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return slices.Clone(t.byPerson[user])
}

// By is how many sessions there are by a passage.
func (t *Table) By(passage string) int {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.byPassage[passage]
}
