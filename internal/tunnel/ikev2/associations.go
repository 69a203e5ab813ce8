package ikev2

import "sync"

const associationShards = 64 // a power of two

// associations are those that are received with, by their SPI.
type associations struct {
	shard [associationShards]struct {
		mu sync.RWMutex
		by map[uint32]*association
	}
}

func (a *associations) find(spi uint32) *association {
	s := &a.shard[spi%associationShards]
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.by[spi]
}

func (a *associations) store(spi uint32, x *association) {
	s := &a.shard[spi%associationShards]
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by == nil {
		s.by = map[uint32]*association{}
	}
	s.by[spi] = x
}

// remove forgets an association; only, where it is given, if it is that one still.
func (a *associations) remove(spi uint32, only *association) {
	s := &a.shard[spi%associationShards]
	s.mu.Lock()
	defer s.mu.Unlock()
	if only == nil || s.by[spi] == only {
		delete(s.by, spi)
	}
}
