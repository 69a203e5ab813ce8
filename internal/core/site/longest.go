package site

import (
	"net/netip"
	"slices"
)

// longest is a table of prefixes of which the longest that holds an address decides, and of several equal ones the first. An address is
// looked up once for each length that there is.
type longest[T interface{ prefix() netip.Prefix }] struct {
	entries []T // longer prefixes first, equal lengths in their order
	lengths []int
	by      map[netip.Prefix][]int // entries, by their prefix
}

// longestOf makes a table of entries in their order: attached networks come first.
func longestOf[T interface{ prefix() netip.Prefix }](entries []T) longest[T] {
	t := longest[T]{entries: slices.Clone(entries), by: map[netip.Prefix][]int{}}
	slices.SortStableFunc(t.entries, func(a, b T) int { return b.prefix().Bits() - a.prefix().Bits() })
	for i, e := range t.entries {
		p := e.prefix().Masked()
		t.by[p] = append(t.by[p], i)
		if n := len(t.lengths); n == 0 || t.lengths[n-1] != p.Bits() {
			t.lengths = append(t.lengths, p.Bits())
		}
	}
	return t
}

// all are the entries with the longest prefix that holds an address, as places among entries.
func (t *longest[T]) all(a netip.Addr) []int {
	for _, bits := range t.lengths {
		if p, err := a.Prefix(bits); err == nil {
			if found := t.by[p]; found != nil {
				return found
			}
		}
	}
	return nil
}

// find is the entry that decides.
func (t *longest[T]) find(a netip.Addr) (entry T, ok bool) {
	if found := t.all(a); found != nil {
		return t.entries[found[0]], true
	}
	return entry, false
}
