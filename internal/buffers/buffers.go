// Package buffers lends the memory into which sockets and devices read packets: from one pool, to whoever has something to read, for as
// long as there is. Who waits for packets has none of it, so its amount follows from how many readers are at work, not from how many there
// are.
package buffers

import (
	"sync"
	"sync/atomic"

	"yellowlantern/internal/core/inside"
)

// Size is how many octets a buffer has: the longest IP packet, with room before and after it.
const Size = 1<<16 + inside.Headroom + inside.Tailroom

// Buffer is one of them.
type Buffer [Size]byte

var (
	pool = sync.Pool{New: func() any { return new(Buffer) }}
	lent atomic.Int64
)

// Lent is how many are lent at the moment.
func Lent() int { return int(lent.Load()) }

// Shelf is a reader's: either all of its places hold a buffer, or none does.
type Shelf []*Buffer

// NewShelf has so many places.
func NewShelf(places int) Shelf { return make(Shelf, places) }

// Fill takes buffers, where there are none, and says whether it did.
func (s Shelf) Fill() bool {
	if s[0] != nil {
		return false
	}
	for i := range s {
		s[i] = pool.Get().(*Buffer)
	}
	lent.Add(int64(len(s)))
	return true
}

// Clear gives them back: nobody may use what was read into them from then on. It says whether there were any.
func (s Shelf) Clear() bool {
	if s[0] == nil {
		return false
	}
	lent.Add(-int64(len(s)))
	for i, b := range s {
		pool.Put(b)
		s[i] = nil
	}
	return true
}
