package crowd

import (
	"cmp"
	"container/list"
	"time"
)

// Room holds what strangers have begun and not ended, by key, such that no source takes the room of another: of a source that begins more
// than its share the oldest gives way, and where there is no room at all, the oldest of the source that has the most. Its fields are set
// before it is used.
type Room[K, S comparable, V any] struct {
	// Most is how many there are at once, and Share how many of one source.
	Most, Share int
	// Lasts is for how long one is kept of which nothing is heard.
	Lasts time.Duration

	by    map[K]*list.Element // of the list of its source, the one that was heard of longest ago first
	of    map[S]*list.List
	swept time.Time
}

type held[K, S comparable, V any] struct {
	key    K
	source S
	value  V
	heard  time.Time
}

// Add holds one more, and gives those that give way for it or of which nothing was heard for too long.
func (r *Room[K, S, V]) Add(now time.Time, key K, source S, value V) (gone []V) {
	if r.by == nil {
		r.by, r.of = map[K]*list.Element{}, map[S]*list.List{}
	}
	if old, ok := r.Remove(key); ok {
		gone = append(gone, old)
	}
	gone = append(gone, r.sweep(now)...)
	if l := r.of[source]; l != nil && l.Len() >= r.Share {
		gone = append(gone, r.oldest(l))
	}
	if len(r.by) >= r.Most {
		var most *list.List
		for _, l := range r.of {
			if most == nil || cmp.Or(cmp.Compare(l.Len(), most.Len()), oldest[K, S, V](most).heard.Compare(oldest[K, S, V](l).heard)) > 0 {
				most = l
			}
		}
		gone = append(gone, r.oldest(most))
	}
	l := r.of[source]
	if l == nil {
		l = list.New()
		r.of[source] = l
	}
	r.by[key] = l.PushBack(&held[K, S, V]{key, source, value, now})
	return gone
}

func oldest[K, S comparable, V any](l *list.List) *held[K, S, V] {
	return l.Front().Value.(*held[K, S, V])
}

func (r *Room[K, S, V]) oldest(l *list.List) V {
	v, _ := r.Remove(oldest[K, S, V](l).key)
	return v
}

// sweep gives what nothing was heard of.
func (r *Room[K, S, V]) sweep(now time.Time) (gone []V) {
	if now.Sub(r.swept) < r.Lasts/8 {
		return nil
	}
	r.swept = now
	for _, l := range r.of {
		for l.Len() > 0 && now.Sub(oldest[K, S, V](l).heard) > r.Lasts {
			gone = append(gone, r.oldest(l))
		}
	}
	return gone
}

// Heard gives what is held under a key, of which something is heard.
func (r *Room[K, S, V]) Heard(now time.Time, key K) (v V, ok bool) {
	e := r.by[key]
	if e == nil {
		return v, false
	}
	x := e.Value.(*held[K, S, V])
	if now.Sub(x.heard) > r.Lasts {
		return v, false
	}
	x.heard = now
	r.of[x.source].MoveToBack(e)
	return x.value, true
}

// Remove holds it no longer, and gives what it was.
func (r *Room[K, S, V]) Remove(key K) (v V, ok bool) {
	e := r.by[key]
	if e == nil {
		return v, false
	}
	x := e.Value.(*held[K, S, V])
	delete(r.by, key)
	l := r.of[x.source]
	if l.Remove(e); l.Len() == 0 {
		delete(r.of, x.source)
	}
	return x.value, true
}

// All gives everything that is held.
func (r *Room[K, S, V]) All() (out []V) {
	for _, e := range r.by {
		out = append(out, e.Value.(*held[K, S, V]).value)
	}
	return out
}

// Len is how many there are.
func (r *Room[K, S, V]) Len() int { return len(r.by) }
