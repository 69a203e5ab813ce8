package access

import (
	"context"
	"sync"
)

// credentials ends what goes on under a credential (by its hash) once that is worth nothing any more.
type credentials struct {
	mu   sync.Mutex
	uses map[string]map[*context.CancelFunc]bool
}

// use gives a context that ends with the credential. done must be called.
func (c *credentials) use(ctx context.Context, hash string) (with context.Context, done func()) {
	with, cancel := context.WithCancel(ctx)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.uses == nil {
		c.uses = map[string]map[*context.CancelFunc]bool{}
	}
	if c.uses[hash] == nil {
		c.uses[hash] = map[*context.CancelFunc]bool{}
	}
	c.uses[hash][&cancel] = true
	return with, func() {
		cancel()
		c.mu.Lock()
		defer c.mu.Unlock()
		if delete(c.uses[hash], &cancel); len(c.uses[hash]) == 0 {
			delete(c.uses, hash)
		}
	}
}

// end ends everything under a credential.
func (c *credentials) end(hash string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for cancel := range c.uses[hash] {
		(*cancel)()
	}
}
