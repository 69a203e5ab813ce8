package equipment

import (
	"crypto/rand"
	"sync"
	"time"

	"yellowlantern/internal/core/login"
)

const (
	lastsFor = time.Minute // a conversation without a message
	mostOpen = 1024        // conversations
)

// conversations are those that are under way, each by a state that nobody can guess. The zero value has none.
type conversations struct {
	mu  sync.Mutex
	all map[string]*conversation
}

type conversation struct {
	sync.Mutex
	with  string // the equipment: nobody else goes on with it
	until time.Time
	login.Conversation
}

func (cs *conversations) find(with, id string, now time.Time) (*conversation, string) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	c := cs.all[id]
	if c == nil || c.with != with || now.After(c.until) {
		return nil, ""
	}
	c.until = now.Add(lastsFor)
	return c, id
}

func (cs *conversations) begin(with string, x login.Conversation, now time.Time) (*conversation, string) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	if cs.all == nil {
		cs.all = map[string]*conversation{}
	}
	if len(cs.all) >= mostOpen {
		return nil, ""
	}
	id := rand.Text()
	c := &conversation{with: with, until: now.Add(lastsFor), Conversation: x}
	cs.all[id] = c
	return c, id
}

func (cs *conversations) end(id string) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	delete(cs.all, id)
}

func (cs *conversations) clean(now time.Time) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	for id, c := range cs.all {
		if now.After(c.until) {
			delete(cs.all, id)
		}
	}
}
