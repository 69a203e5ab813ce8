package forward

import (
	"net/netip"
	"sync"
)

// directory finds sessions by what is leased to them.
type directory struct {
	mu sync.RWMutex
	by map[netip.Addr]*Session
}

func (d *directory) add(s *Session) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.by == nil {
		d.by = map[netip.Addr]*Session{}
	}
	for _, a := range s.Addresses {
		d.by[a] = s
	}
}

func (d *directory) remove(s *Session) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, a := range s.Addresses {
		if d.by[a] == s {
			delete(d.by, a)
		}
	}
}

func (d *directory) find(a netip.Addr) *Session {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.by[a]
}

// all is every session once.
func (d *directory) all() (out []*Session) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for a, s := range d.by {
		if s.Addresses[0] == a {
			out = append(out, s)
		}
	}
	return out
}

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
