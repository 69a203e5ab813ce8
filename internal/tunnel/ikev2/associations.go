package ikev2

import (
	"sync"
	"sync/atomic"
)

// associations are those that are received with, by their SPI. Finding one takes no lock: what a slot holds never changes, another takes
// its place. SPIs are ours, and random: no device chooses which slot is full.
type associations struct {
	mu    sync.Mutex // of who changes them
	count int
	slots atomic.Pointer[[]atomic.Pointer[node]] // a power of two
}

// node is an association in its slot.
type node struct {
	spi  uint32
	a    *association
	next *node
}

const fewestSlots = 64

func (a *associations) find(spi uint32) *association {
	slots := a.slots.Load()
	if slots == nil {
		return nil
	}
	for n := (*slots)[int(spi)&(len(*slots)-1)].Load(); n != nil; n = n.next {
		if n.spi == spi {
			return n.a
		}
	}
	return nil
}

func (a *associations) store(spi uint32, x *association) {
	a.mu.Lock()
	defer a.mu.Unlock()
	slots := a.room()
	at := &slots[int(spi)&(len(slots)-1)]
	rest, had := without(at.Load(), spi)
	if !had {
		a.count++
	}
	at.Store(&node{spi, x, rest})
}

// room is the slots with one at least for each association and one more. a.mu is held.
func (a *associations) room() []atomic.Pointer[node] {
	old := a.slots.Load()
	if old != nil && a.count < len(*old) {
		return *old
	}
	grown := make([]atomic.Pointer[node], fewestSlots)
	if old != nil {
		grown = make([]atomic.Pointer[node], 2*len(*old))
		for i := range *old {
			for n := (*old)[i].Load(); n != nil; n = n.next {
				at := &grown[int(n.spi)&(len(grown)-1)]
				at.Store(&node{n.spi, n.a, at.Load()})
			}
		}
	}
	a.slots.Store(&grown)
	return grown
}

// without is a slot's nodes without those of an SPI, and whether there was one.
func without(n *node, spi uint32) (rest *node, had bool) {
	for ; n != nil; n = n.next {
		if n.spi == spi {
			had = true
		} else {
			rest = &node{n.spi, n.a, rest}
		}
	}
	return rest, had
}

// remove forgets an association; only, where it is given, if it is that one still.
func (a *associations) remove(spi uint32, only *association) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if x := a.find(spi); x == nil || only != nil && x != only {
		return
	}
	slots := *a.slots.Load()
	at := &slots[int(spi)&(len(slots)-1)]
	rest, _ := without(at.Load(), spi)
	at.Store(rest)
	a.count--
}
