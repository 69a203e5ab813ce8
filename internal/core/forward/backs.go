package forward

import (
	"sync"
)

const shards = 64 // a power of two

// backs are the flows of all sessions by what their answers look like.
type backs struct {
	shard [shards]struct {
		mu sync.RWMutex
		by map[flowKey]*flow
	}
}

// shardOf spreads keys: answers to one session differ in ports and peers.
func shardOf(k flowKey) int {
	a, b := k.src.As16(), k.dst.As16()
	h := uint32(k.srcPort)*0x9e3779b1 ^ uint32(k.dstPort)*0x85ebca6b
	h ^= uint32(a[15])<<8 ^ uint32(a[14])<<16 ^ uint32(b[15])<<4 ^ uint32(b[14])<<12
	h ^= h >> 15
	return int(h*0x2c1b3c6d>>20) & (shards - 1)
}

func (b *backs) find(k flowKey) *flow {
	s := &b.shard[shardOf(k)]
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.by[k]
}

// claim takes a key for a flow, unless it is another's.
func (b *backs) claim(k flowKey, f *flow) bool {
	s := &b.shard[shardOf(k)]
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by[k] != nil {
		return false
	}
	if s.by == nil {
		s.by = map[flowKey]*flow{}
	}
	s.by[k] = f
	return true
}

func (b *backs) leave(k flowKey, f *flow) {
	s := &b.shard[shardOf(k)]
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by[k] == f {
		delete(s.by, k)
	}
}
