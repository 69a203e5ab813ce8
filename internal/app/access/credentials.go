package access

import (
	"context"
	"sync"
)

// use is something that goes on under a credential: a call, or a stream that stays open.
type use struct {
	hash          string // the credential's
	administrator string
	role          string // theirs when it began
	cancel        context.CancelFunc
}

// credentials knows everything that goes on, and ends it with the right by which it began. What ends is found here and not in the store,
// for there the credential may be gone already.
type credentials struct {
	mu    sync.Mutex
	uses  map[*use]bool
	ended uint64 // how often something ended
}

// version stands for what had ended so far: whoever reads the store for a credential takes it before.
func (c *credentials) version() uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// begin gives a context that ends with the right. done must be called. ok is false where something ended since the version: what was read
// of the credential may be no longer valid.
func (c *credentials) begin(ctx context.Context, u use, version uint64) (with context.Context, done func(), ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended != version {
		return ctx, func() {}, false
	}
	with, u.cancel = context.WithCancel(ctx)
	if c.uses == nil {
		c.uses = map[*use]bool{}
	}
	c.uses[&u] = true
	return with, func() {
		u.cancel()
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.uses, &u)
	}, true
}

// end ends everything under a credential.
func (c *credentials) end(hash string) { c.endIf(func(u use) bool { return u.hash == hash }) }

// endOf ends everything in an administrator's name.
func (c *credentials) endOf(administrator string) {
	c.endIf(func(u use) bool { return u.administrator == administrator })
}

func (c *credentials) endIf(over func(use) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ended++
	for u := range c.uses {
		if over(*u) {
			u.cancel() // it leaves the list by itself
		}
	}
}

// open lists what goes on.
func (c *credentials) open() []use {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]use, 0, len(c.uses))
	for u := range c.uses {
		out = append(out, *u)
	}
	return out
}
