package equipment

import (
	"crypto/rand"
	"sync"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/guard"
)

const (
	lastsFor = time.Minute // a conversation without a message
	mostOpen = 1024        // conversations by one piece of equipment
	mostEach = 8           // of those by one device, as the equipment calls it
)

// conversations are those that are under way, each by a state that nobody can guess. Each piece of equipment has room of its own, in which
// no device takes that of others: the one of which nothing was heard longest gives way. The zero value has none.
type conversations struct {
	mu  sync.Mutex
	all map[string]*crowd.Room[string, string, *conversation] // by the equipment: nobody else goes on with one
	// gone counts those that gave way since it was asked.
	gone map[string]int
}

type conversation struct {
	mu   sync.Mutex
	over bool
	login.Conversation
}

// next takes it a step further; false: it is over, and a message that comes again is not judged again.
func (c *conversation) next(message []byte) (step login.Step, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.over {
		return step, false
	}
	step = c.Next(message)
	if c.over = step.Over; c.over {
		c.End()
	}
	return step, true
}

func (c *conversation) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.over {
		c.over = true
		c.End()
	}
}

func (cs *conversations) find(with, id string, now time.Time) *conversation {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	if r := cs.all[with]; r != nil {
		c, _ := r.Heard(now, id)
		return c
	}
	return nil
}

// begin keeps a conversation of a device by some equipment.
func (cs *conversations) begin(with, station string, x login.Conversation, now time.Time) (c *conversation, id string) {
	cs.mu.Lock()
	if cs.all == nil {
		cs.all, cs.gone = map[string]*crowd.Room[string, string, *conversation]{}, map[string]int{}
	}
	r := cs.all[with]
	if r == nil {
		r = &crowd.Room[string, string, *conversation]{Most: mostOpen, Share: mostEach, Lasts: lastsFor}
		cs.all[with] = r
	}
	id, c = rand.Text(), &conversation{Conversation: x}
	full := r.Len() >= mostOpen
	gone := r.Add(now, id, station, c)
	if full {
		cs.gone[with]++
	}
	cs.mu.Unlock()
	for _, g := range gone { // somebody may be judging one of them
		guard.Go("equipment.over", g.end)
	}
	return c, id
}

func (cs *conversations) end(with, id string) {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	if r := cs.all[with]; r != nil {
		r.Remove(id)
	}
}

// crowded gives by which equipment conversations gave way for others since it was asked last, and how many.
func (cs *conversations) crowded() map[string]int {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	out := cs.gone
	cs.gone = map[string]int{}
	return out
}

// close ends all of them.
func (cs *conversations) close() {
	cs.mu.Lock()
	all := cs.all
	cs.all = nil
	cs.mu.Unlock()
	for _, r := range all {
		for _, c := range r.All() {
			c.end()
		}
	}
}
