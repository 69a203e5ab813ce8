package check

import (
	"cmp"
	"container/heap"
	"net/netip"
	"slices"

	"yellowlantern/internal/core/netset"
)

// overlapping tells which spans of a list overlap one that stands before them. Each span is looked at once, in the order of the addresses,
// so that a list of tens of thousands takes no longer than sorting it.
func overlapping(spans []netset.Span) []bool {
	out := make([]bool, len(spans))
	order := make([]int, len(spans))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Or(spans[a].From.Compare(spans[b].From), cmp.Compare(a, b)) })
	over := func(i int, at netip.Addr) bool { return spans[i].To.Less(at) }
	first, last := &byIndex{}, &byIndex{down: true} // of those that reach as far as here; last: that are not marked yet
	for _, i := range order {
		at := spans[i].From
		for first.Len() > 0 && over(first.at[0], at) {
			heap.Pop(first)
		}
		for last.Len() > 0 && (over(last.at[0], at) || last.at[0] > i) {
			k := heap.Pop(last).(int)
			out[k] = out[k] || !over(k, at)
		}
		if first.Len() > 0 && first.at[0] < i {
			out[i] = true
		} else {
			heap.Push(last, i)
		}
		heap.Push(first, i)
	}
	return out
}

// byIndex is a heap of places in a list.
type byIndex struct {
	at   []int
	down bool
}

func (h *byIndex) Len() int           { return len(h.at) }
func (h *byIndex) Less(a, b int) bool { return h.at[a] < h.at[b] != h.down }
func (h *byIndex) Swap(a, b int)      { h.at[a], h.at[b] = h.at[b], h.at[a] }
func (h *byIndex) Push(x any)         { h.at = append(h.at, x.(int)) }

func (h *byIndex) Pop() any {
	x := h.at[len(h.at)-1]
	h.at = h.at[:len(h.at)-1]
	return x
}
